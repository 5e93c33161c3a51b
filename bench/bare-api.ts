import { createServer } from 'node:http';

/** Stands for the provider's API: answers every request with the same record of 600 bytes. */
const body = JSON.stringify({ record: 'x'.repeat(587) });
const server = createServer((_request, response) => {
  response.writeHead(200, { 'content-type': 'application/json', 'content-length': Buffer.byteLength(body) });
  response.end(body);
});
server.keepAliveTimeout = 60_000;
server.listen(0, '127.0.0.1', () => {
  const address = server.address();
  process.stdout.write(`${address && typeof address === 'object' ? address.port : 0}\n`);
});
process.once('SIGTERM', () => process.exit(0));
