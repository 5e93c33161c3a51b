import { randomUUID } from 'node:crypto';
import type { IncomingMessage, ServerResponse } from 'node:http';
import type { Logger } from 'pino';
import proxyAddress from 'proxy-addr';
import { malformedRequest, type OAuthAnswer } from '../handout/oauth-answer.ts';
import type { TokenEndpoint } from '../handout/token-endpoint.ts';

/** The token and revocation endpoints ahead of Express, which would cost four fifths of what it can serve. True: the request is taken. */
export type TokenLane = (request: IncomingMessage, response: ServerResponse) => boolean;

const TOKEN = '/oauth/token';
const REVOKE = '/oauth/revoke';
const BODY_MOST = 16 * 1024;

/** What a path asks for, or null: not ours. */
interface Way {
  endpoint: 'token' | 'revoke';
  connection: string | null;
  ownPath: string | null;
}

/** The client's address: `trustedProxies` hops of X-Forwarded-For are believed. */
export const addressReader = (trustedProxies: number): ((request: IncomingMessage) => string) => {
  const trusted = (_address: string, hops: number): boolean => hops < trustedProxies;
  return (request) => (trustedProxies === 0 ? (request.socket.remoteAddress ?? '') : proxyAddress(request, trusted));
};

export function tokenLane(parts: {
  tokenEndpoint: TokenEndpoint;
  /** Whether a caller has this further token path. */
  hasTokenPath(path: string): boolean;
  addressOf(request: IncomingMessage): string;
  log: Logger;
}): TokenLane {
  const { log, addressOf } = parts;
  const wayOf = (path: string): Way | null => {
    if (path.startsWith(TOKEN)) {
      const rest = path.slice(TOKEN.length);
      if (rest === '' || rest === '/') return { endpoint: 'token', connection: null, ownPath: null };
      const named = /^\/([a-z0-9][a-z0-9._-]{0,62})\/?$/.exec(rest)?.[1];
      return named === undefined ? null : { endpoint: 'token', connection: named, ownPath: null };
    }
    if (path === REVOKE) return { endpoint: 'revoke', connection: null, ownPath: null };
    return parts.hasTokenPath(path) ? { endpoint: 'token', connection: null, ownPath: path } : null;
  };

  const runId = randomUUID().slice(0, 8);
  let served = 0;
  const serve = async (request: IncomingMessage, response: ServerResponse, way: Way, query: string): Promise<void> => {
    const startedAt = Date.now();
    served += 1;
    const requestId = `${runId}-${served.toString(36)}`;
    const read = request.method === 'POST' ? await readBody(request) : null;
    const answer =
      read === null
        ? allowPost(malformedRequest(405, 'Send a POST.'))
        : read.tooLarge
          ? malformedRequest(413, 'The body is larger than 16 kB.')
          : await parts.tokenEndpoint[way.endpoint]({
              contentType: request.headers['content-type'],
              authorization: request.headers.authorization,
              query,
              body: read.body,
              address: addressOf(request),
              // Written out: spreading one object into another here costs a fifth of all handouts.
              connection: way.connection,
              ownPath: way.ownPath,
            });
    const { body } = answer;
    const headers = answer.headers.concat('x-request-id', requestId, 'content-length', String(Buffer.byteLength(body)));
    if (read?.tooLarge) headers.push('connection', 'close'); // what was not read would be taken for the next request
    response.writeHead(answer.status, headers);
    response.end(body);
    const level = answer.status >= 500 ? 'warn' : 'debug';
    if (!log.isLevelEnabled(level)) return;
    log[level]({ requestId, method: request.method, route: way.endpoint, status: answer.status, ms: Date.now() - startedAt }, 'request');
  };
  return (request, response) => {
    const url = request.url ?? '';
    const mark = url.indexOf('?');
    const way = wayOf(mark < 0 ? url : url.slice(0, mark));
    if (way === null) return false;
    serve(request, response, way, mark < 0 ? '' : url.slice(mark + 1)).catch((cause: unknown) => {
      log.debug({ cause: cause instanceof Error ? cause.message : 'unknown' }, 'a token request broke off');
      response.destroy();
    });
    return true;
  };
}

const allowPost = (answer: OAuthAnswer): OAuthAnswer => ({ ...answer, headers: [...answer.headers, 'allow', 'POST'] });

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
