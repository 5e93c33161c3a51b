#!/usr/bin/env python3
"""berth-report: counts the bookings of each berth. Python's standard library and nothing else.

It fetches a token by the open standard (RFC 6749 section 4.4) and calls the API itself, with the base URL that the answer names.
Settings: TOKEN_URL, CLIENT_ID, CLIENT_SECRET, SCOPE (connection:NAME), and API_URL where the answer names none.
"""

import base64
import collections
import json
import os
import sys
import urllib.error
import urllib.parse
import urllib.request


def setting(name):
    value = os.environ.get(name)
    if not value:
        sys.exit(f"Set {name}.")
    return value


def send(request):
    try:
        with urllib.request.urlopen(request, timeout=20) as answer:
            return json.load(answer)
    except urllib.error.HTTPError as error:
        sys.exit(f"{request.full_url} answered {error.code}: {error.read(500).decode('utf-8', 'replace')}")


def fetch_token():
    pair = f"{setting('CLIENT_ID')}:{setting('CLIENT_SECRET')}".encode()
    form = {"grant_type": "client_credentials", "scope": setting("SCOPE")}
    request = urllib.request.Request(setting("TOKEN_URL"), data=urllib.parse.urlencode(form).encode())
    request.add_header("Authorization", "Basic " + base64.b64encode(pair).decode())
    return send(request)


token = fetch_token()
base = os.environ.get("API_URL") or token["base_url"]
request = urllib.request.Request(f"{base}/bookings")
request.add_header("Authorization", f"Bearer {token['access_token']}")
bookings = send(request)["bookings"]
for berth, count in sorted(collections.Counter(booking["berth"] for booking in bookings).items()):
    print(f"{berth}: {count}")
