import { randomUUID } from 'node:crypto';
import type { IncomingMessage, ServerResponse } from 'node:http';
import type { Logger } from 'pino';
import proxyAddress from 'proxy-addr';
import { malformedTokenRequest, type TokenEndpoint, type TokenEndpointAnswer } from '../handout/token-endpoint.ts';

/** The token endpoint ahead of Express, which would cost four fifths of what it can serve. True: the request is taken. */
export type TokenLane = (request: IncomingMessage, response: ServerResponse) => boolean;

const PATH = '/oauth/token';
const BODY_MOST = 16 * 1024;

export function tokenLane(parts: { tokenEndpoint: TokenEndpoint; trustedProxies: number; log: Logger }): TokenLane {
  const { trustedProxies, log } = parts;
  const trusted = (_address: string, hops: number): boolean => hops < trustedProxies;
  const addressOf = (request: IncomingMessage): string => (trustedProxies === 0 ? (request.socket.remoteAddress ?? '') : proxyAddress(request, trusted));

  const runId = randomUUID().slice(0, 8);
  let served = 0;
  const serve = async (request: IncomingMessage, response: ServerResponse, query: string): Promise<void> => {
    const startedAt = Date.now();
    served += 1;
    const requestId = `${runId}-${served.toString(36)}`;
    const read = request.method === 'POST' ? await readBody(request) : null;
    const answer =
      read === null
        ? allowPost(malformedTokenRequest(405, 'Send a POST.'))
        : read.tooLarge
          ? malformedTokenRequest(413, 'The body is larger than 16 kB.')
          : await parts.tokenEndpoint({
              contentType: request.headers['content-type'],
              authorization: request.headers.authorization,
              query,
              body: read.body,
              address: addressOf(request),
            });
    const { body } = answer;
    const headers = answer.headers.concat('x-request-id', requestId, 'content-length', String(Buffer.byteLength(body)));
    if (read?.tooLarge) headers.push('connection', 'close'); // what was not read would be taken for the next request
    response.writeHead(answer.status, headers);
    response.end(body);
    const level = answer.status >= 500 ? 'warn' : 'debug';
    if (!log.isLevelEnabled(level)) return;
    log[level]({ requestId, method: request.method, route: PATH, status: answer.status, ms: Date.now() - startedAt }, 'request');
  };
  return (request, response) => {
    const url = request.url ?? '';
    if (!url.startsWith(PATH)) return false;
    const rest = url.slice(PATH.length);
    if (rest !== '' && rest !== '/' && !/^\/?\?/.test(rest)) return false;
    const mark = rest.indexOf('?');
    serve(request, response, mark < 0 ? '' : rest.slice(mark + 1)).catch((cause: unknown) => {
      log.debug({ cause: cause instanceof Error ? cause.message : 'unknown' }, 'a token request broke off');
      response.destroy();
    });
    return true;
  };
}

const allowPost = (answer: TokenEndpointAnswer): TokenEndpointAnswer => ({ ...answer, headers: [...answer.headers, 'allow', 'POST'] });

/** @throws when the caller breaks off. The server's request time limit bounds how long it may take. */
function readBody(request: IncomingMessage): Promise<{ body: string; tooLarge: boolean }> {
  return new Promise((resolve, reject) => {
    const parts: Buffer[] = [];
    let size = 0;
    request.on('data', (part: Buffer) => {
      size += part.length;
      if (size > BODY_MOST) {
        request.pause();
        resolve({ body: '', tooLarge: true });
      } else parts.push(part);
    });
    request.once('end', () => resolve({ body: parts.length === 1 ? String(parts[0]) : Buffer.concat(parts).toString('utf8'), tooLarge: false }));
    request.once('error', reject);
    // Only a caller that broke off: an error for each request that ended well would cost a tenth of the lane.
    request.once('close', () => {
      if (!request.complete) reject(new Error('closed'));
    });
  });
}
