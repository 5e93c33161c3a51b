// Takes events about people. Standard Webhooks: the signature covers id, time and body; what is old or was seen before is refused.
import { createHmac, timingSafeEqual } from 'node:crypto';
import { createServer } from 'node:http';

const { SIGNING_SECRET, PORT = '0' } = process.env;
if (!SIGNING_SECRET) {
  process.stderr.write('Set SIGNING_SECRET, as it was set for the caller.\n');
  process.exit(2);
}
// By Standard Webhooks `whsec_` stands before base64; any other text is the key as it is.
const KEY = SIGNING_SECRET.startsWith('whsec_') ? Buffer.from(SIGNING_SECRET.slice(6), 'base64') : SIGNING_SECRET;
const OLD_SECONDS = 300;
const seen = new Set();

function isGenuine(headers, body) {
  const { 'webhook-id': id = '', 'webhook-timestamp': at = '', 'webhook-signature': signatures = '' } = headers;
  if (!(Math.abs(Date.now() / 1000 - Number(at)) <= OLD_SECONDS)) return false;
  const wanted = createHmac('sha256', KEY).update(`${id}.${at}.${body}`).digest();
  return signatures.split(' ').some((one) => {
    const given = Buffer.from(one.replace(/^v1,/, ''), 'base64');
    return given.length === wanted.length && timingSafeEqual(given, wanted);
  });
}

const server = createServer((request, response) => {
  let body = '';
  request.setEncoding('utf8').on('data', (part) => (body += part));
  request.on('end', () => {
    if (!isGenuine(request.headers, body)) return response.writeHead(401).end();
    // The same event may come twice, never with another id.
    if (!seen.has(request.headers['webhook-id'])) {
      seen.add(request.headers['webhook-id']);
      const { type, subject } = JSON.parse(body);
      process.stdout.write(`${type} ${subject}\n`);
    }
    response.writeHead(204).end();
  });
});
server.listen(Number(PORT), '127.0.0.1', () => process.stdout.write(`listening on http://127.0.0.1:${server.address().port}\n`));
for (const signal of ['SIGINT', 'SIGTERM']) process.on(signal, () => process.exit(0));
