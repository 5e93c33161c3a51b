import { randomBytes } from 'node:crypto';
import { createServer } from 'node:http';

/** The fastest token endpoint there can be: reads the form, answers with new tokens. `node bare-token-endpoint.ts` prints its port. */
const server = createServer((request, response) => {
  request.on('data', () => undefined);
  request.on('end', () => {
    const mark = randomBytes(24).toString('base64url');
    const body = JSON.stringify({ access_token: `a.${mark}`, refresh_token: `r.${mark}`, token_type: 'Bearer', expires_in: 3600 });
    response.writeHead(200, { 'content-type': 'application/json', 'content-length': body.length });
    response.end(body);
  });
});
server.keepAliveTimeout = 60_000;
server.listen(0, '127.0.0.1', () => {
  const address = server.address();
  process.stdout.write(`${address && typeof address === 'object' ? address.port : 0}\n`);
});
process.once('SIGTERM', () => process.exit(0));
