import { createServer } from 'node:http';

/** Reads a POST and answers the bytes of its argument: what a token issuance would cost if it checked nothing. */
const body = process.argv[2] ?? '';
const server = createServer((request, response) => {
  const parts: Buffer[] = [];
  request.on('data', (part: Buffer) => parts.push(part));
  request.on('end', () => {
    Buffer.concat(parts).toString('utf8');
    response.writeHead(200, { 'content-type': 'application/json', 'cache-control': 'no-store', 'content-length': Buffer.byteLength(body) });
    response.end(body);
  });
});
server.listen(0, '127.0.0.1', () => {
  const address = server.address();
  process.stdout.write(`${address && typeof address === 'object' ? address.port : 0}\n`);
});
process.once('SIGTERM', () => process.exit(0));
