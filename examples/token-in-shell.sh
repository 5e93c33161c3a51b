#!/bin/sh
# token-in-shell: fetches a token with curl and calls the API with it, for scripts that must speak to the API themselves.
set -eu
: "${TOKEN_URL:?Set TOKEN_URL}" "${CLIENT_ID:?Set CLIENT_ID}" "${CLIENT_SECRET:?Set CLIENT_SECRET}" "${API_URL:?Set API_URL to the address to call}"
answer=$(printf 'user = "%s:%s"\n' "$CLIENT_ID" "$CLIENT_SECRET" | curl --config - --silent --show-error --fail-with-body --max-time 30 --data grant_type=client_credentials ${SCOPE:+--data "scope=$SCOPE"} "$TOKEN_URL") || {
  code=$?
  printf '%s\n' "$answer" >&2 # what went wrong, and what to do, stands in the answer
  exit "$code"
}
token=$(printf '%s' "$answer" | sed -n 's/.*"access_token":"\([^"]*\)".*/\1/p')
printf 'header = "Authorization: Bearer %s"\n' "${token:?No token came: $answer}" | curl --config - --silent --show-error --fail-with-body --max-time 30 "$API_URL"
