#!/bin/sh
# parcels-waiting: how many parcels wait, as a line for cron to mail. curl and the shell, nothing else: the relay adds the token, waits
# where the provider's quota is used up, and answers 429 with Retry-After where waiting would take too long.
#   */15 6-22 * * *  caller  . /etc/parcels.env && /usr/local/bin/parcels-waiting.sh
set -eu
: "${RELAY_URL:?Set RELAY_URL to the relay of the connection}" "${CALLER_ID:?Set CALLER_ID}" "${CALLER_KEY:?Set CALLER_KEY}"
# The key goes in by a config on standard input: arguments can be seen by everybody on the machine.
answer=$(printf 'user = "%s:%s"\n' "$CALLER_ID" "$CALLER_KEY" | curl --config - --silent --show-error --fail-with-body --max-time 60 --retry 2 "$RELAY_URL/parcels?limit=1") || {
  code=$?
  printf '%s\n' "$answer" >&2 # what went wrong, and what to do, stands in the answer
  exit "$code"
}
total=$(printf '%s' "$answer" | sed -n 's/.*"total": *\([0-9]*\).*/\1/p')
printf '%s parcels wait\n' "${total:?The answer names no total: $answer}"
