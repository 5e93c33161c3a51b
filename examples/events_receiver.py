"""Takes events about people, with Python's own library alone. Standard Webhooks: the signature covers id, time and body."""
import base64
import hashlib
import hmac
import json
import os
import sys
import time
from http.server import BaseHTTPRequestHandler, HTTPServer

SECRET = os.environ.get("SIGNING_SECRET", "")
if not SECRET:
    sys.exit("Set SIGNING_SECRET, as it was set for the caller.")
# By Standard Webhooks whsec_ stands before base64; any other text is the key as it is.
KEY = base64.b64decode(SECRET[6:]) if SECRET.startswith("whsec_") else SECRET.encode()
OLD_SECONDS = 300
seen = set()


def is_genuine(headers, body):
    event, at = headers.get("webhook-id", ""), headers.get("webhook-timestamp", "")
    if not at.isdigit() or abs(time.time() - int(at)) > OLD_SECONDS:
        return False
    wanted = base64.b64encode(hmac.new(KEY, f"{event}.{at}.".encode() + body, hashlib.sha256).digest()).decode()
    given = headers.get("webhook-signature", "").split(" ")
    return any(hmac.compare_digest(one, f"v1,{wanted}") for one in given)


class Receiver(BaseHTTPRequestHandler):
    def do_POST(self):
        body = self.rfile.read(int(self.headers.get("content-length", 0)))
        genuine = is_genuine(self.headers, body)
        event = self.headers.get("webhook-id")
        # The same event may come twice, never with another id.
        if genuine and event not in seen:
            seen.add(event)
            told = json.loads(body)
            print(told["type"], told["subject"], flush=True)
        self.send_response(204 if genuine else 401)
        self.end_headers()

    def log_message(self, *_):
        pass


server = HTTPServer(("127.0.0.1", int(os.environ.get("PORT", "0"))), Receiver)
print(f"listening on http://127.0.0.1:{server.server_port}", flush=True)
server.serve_forever()
