import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import { connect } from 'node:net';

/** An API in the test's own hands: each test says how it answers. An unexpected request is remembered as a fault of the test. */
export interface Upstream {
  port: number;
  /** Requests in the order in which they came, with their bodies. */
  seen: { method: string; url: string; headers: IncomingMessage['headers']; rawHeaders: string[]; body: string }[];
  answer: (request: IncomingMessage, response: ServerResponse, body: string) => void;
  /** True: the handler gets the request as it comes, unread. */
  streams: boolean;
  server: Server;
  stop(): Promise<void>;
}

export async function startUpstream(): Promise<Upstream> {
  const upstream: Upstream = {
    port: 0,
    seen: [],
    streams: false,
    answer: (_request, response) => void response.writeHead(404).end(),
    server: createServer((request, response) => {
      const take = (body: string) => {
        upstream.seen.push({ method: request.method ?? '', url: request.url ?? '', headers: request.headers, rawHeaders: request.rawHeaders, body });
        upstream.answer(request, response, body);
      };
      if (upstream.streams) return take('');
      const parts: Buffer[] = [];
      request.on('data', (part: Buffer) => parts.push(part));
      request.on('end', () => take(Buffer.concat(parts).toString('utf8')));
    }),
    stop: () =>
      new Promise((resolve) => {
        upstream.server.close(() => resolve());
        upstream.server.closeAllConnections();
      }),
  };
  await new Promise<void>((resolve) => upstream.server.listen(0, '127.0.0.1', resolve));
  const address = upstream.server.address();
  upstream.port = address && typeof address === 'object' ? address.port : 0;
  return upstream;
}

/** What a server answers to bytes as they are: for requests that no client library would send. */
export function sendRaw(url: string, text: string, waitMs = 3_000): Promise<string> {
  const { hostname, port } = new URL(url);
  return new Promise((resolve) => {
    let got = '';
    const socket = connect({ host: hostname, port: Number(port) }, () => socket.write(text));
    const end = () => {
      socket.destroy();
      resolve(got);
    };
    const timer = setTimeout(end, waitMs);
    socket.on('data', (part) => {
      got += part.toString('latin1');
      if (/\r\n\r\n[\s\S]*(\}|\r\n0\r\n\r\n)$/.test(got)) {
        clearTimeout(timer);
        end();
      }
    });
    socket.on('error', end);
    socket.on('close', end);
  });
}
