import { createServer } from 'node:http';
import { Agent } from 'undici';

/** A proxy that checks nothing: each request goes on with a fixed token by `undici`, and the answer is piped back as it comes. */
const origin = `http://127.0.0.1:${process.argv[2] ?? '0'}`;
const agent = new Agent({ connections: 256, pipelining: 1 });
const server = createServer((request, response) => {
  const body = request.method === 'GET' ? null : request;
  agent
    .request({ origin, path: request.url ?? '/', method: request.method as 'GET', headers: { authorization: 'Bearer fixed', accept: '*/*' }, body })
    .then((answer) => {
      response.writeHead(answer.statusCode, answer.headers);
      answer.body.pipe(response);
    })
    .catch(() => response.destroy());
});
server.listen(0, '127.0.0.1', () => {
  const address = server.address();
  process.stdout.write(`${address && typeof address === 'object' ? address.port : 0}\n`);
});
process.once('SIGTERM', () => process.exit(0));
