import { randomUUID } from 'node:crypto';
import type { IncomingMessage, ServerResponse } from 'node:http';
import proxyAddress from 'proxy-addr';
import type { BodyDeadline } from '../body-deadline.ts';
import type { Log } from '../ports.ts';
import { sendWhole } from '../send-whole.ts';
import { malformedRequest, type OAuthAnswer, type PresentedCertificate } from '../tokens/index.ts';
import type { TokenEndpoint } from './token-endpoint.ts';

/** The token and revocation endpoints ahead of Express, which would cost four fifths of what it can serve. True: the request is taken. */
export type TokenLane = (request: IncomingMessage, response: ServerResponse) => boolean;

const TOKEN = '/oauth/token';
const REVOKE = '/oauth/revoke';
const MAX_BODY = 16 * 1024;

/** What a path asks for, or null: not ours. */
interface Way {
  endpoint: 'token' | 'revoke';
  /** Its name, or `NAME/people/KEY`. */
  connection: string | null;
  ownPath: string | null;
}

/** One request under way. `startedAt`: of `performance.now()`. */
interface Exchange {
  request: IncomingMessage;
  response: ServerResponse;
  way: Way;
  startedAt: number;
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
  /** Whether a tool that keeps no secret runs at this origin. */
  hasOrigin(origin: string): boolean;
  /** The client's certificate, where a trusted proxy passes it. */
  certificateOf(request: IncomingMessage): PresentedCertificate | undefined;
  addressOf(request: IncomingMessage): string;
  bodies: BodyDeadline;
  log: Log;
}): TokenLane {
  const { log, addressOf, bodies } = parts;
  const wayOf = (path: string): Way | null => {
    if (path.startsWith(TOKEN)) {
      const rest = path.slice(TOKEN.length);
      if (rest === '' || rest === '/') return { endpoint: 'token', connection: null, ownPath: null };
      const named = /^\/([a-z0-9][a-z0-9._-]{0,62}(?:\/people\/[^/]{1,2400})?)\/?$/.exec(rest)?.[1];
      return named === undefined ? null : { endpoint: 'token', connection: named, ownPath: null };
    }
    if (path === REVOKE) return { endpoint: 'revoke', connection: null, ownPath: null };
    return parts.hasTokenPath(path) ? { endpoint: 'token', connection: null, ownPath: path } : null;
  };

  const runId = randomUUID().slice(0, 8);
  let served = 0;
  const send = ({ request, response, way, startedAt }: Exchange, answer: OAuthAnswer, unread = false): void => {
    served += 1;
    const requestId = `${runId}-${served.toString(36)}`;
    const { body } = answer;
    const bytes = Buffer.byteLength(body);
    const headers = answer.headers.concat('x-request-id', requestId, 'content-length', String(bytes));
    if (unread) headers.push('connection', 'close'); // what was not read would be taken for the next request
    const { origin } = request.headers;
    if (origin !== undefined) headers.push(...corsHeaders(origin, parts.hasOrigin(origin)));
    response.writeHead(answer.status, headers);
    sendWhole(response, body, bytes === body.length ? 'latin1' : 'utf8'); // one byte each: copied, not encoded
    const level = answer.status >= 500 ? 'warn' : 'debug';
    if (!log.isLevelEnabled(level)) return;
    log[level](
      { event: 'http.request', requestId, method: request.method, route: way.endpoint, status: answer.status, ms: Math.round(performance.now() - startedAt) },
      'request',
    );
  };
  /** Events, not promises: those cost a tenth of the lane. */
  const serve = (request: IncomingMessage, response: ServerResponse, way: Way, query: string): void => {
    const exchange: Exchange = { request, response, way, startedAt: performance.now() };
    if (request.method === 'OPTIONS' && request.headers.origin !== undefined) return send(exchange, PREFLIGHT);
    if (request.method !== 'POST') return send(exchange, allowPost(malformedRequest(405, 'Send a POST.')));
    const broke = (cause?: unknown): void => {
      if (cause) log.debug({ event: 'tokens.request_broke_off', cause: cause instanceof Error ? cause.message : 'unknown' }, 'a token request broke off');
      if (!response.writableEnded) response.destroy();
    };
    bodies.watch(request, () => {
      if (response.headersSent) request.socket.destroy();
      else send(exchange, malformedRequest(408, 'The body was too long on its way.'), true);
    });
    const pieces: Buffer[] = [];
    let size = 0;
    request.on('data', (piece: Buffer) => {
      size += piece.length;
      if (size <= MAX_BODY) pieces.push(piece);
      else if (!response.headersSent) {
        request.pause();
        send(exchange, malformedRequest(413, 'The body is larger than 16 kB.'), true);
      }
    });
    const answerIt = (): void => {
      const answered = parts.tokenEndpoint[way.endpoint]({
        contentType: request.headers['content-type'],
        authorization: request.headers.authorization,
        query,
        body: pieces.length === 1 ? String(pieces[0]) : Buffer.concat(pieces).toString('utf8'),
        address: addressOf(request),
        certificate: parts.certificateOf(request),
        // Written out: spreading one object into another here costs a fifth of all issued tokens.
        connection: way.connection,
        ownPath: way.ownPath,
      });
      if (answered instanceof Promise) answered.then((answer) => send(exchange, answer)).catch(broke);
      else send(exchange, answered);
    };
    request.on('end', () => {
      bodies.done(request);
      if (response.headersSent) return;
      try {
        answerIt();
      } catch (cause) {
        broke(cause); // thrown out of an event, it would end the process and with it all that others wait for
      }
    });
    request.on('error', broke);
  };
  return (request, response) => {
    const url = request.url ?? '';
    const mark = url.indexOf('?');
    const way = wayOf(mark < 0 ? url : url.slice(0, mark));
    if (way === null) return false;
    serve(request, response, way, mark < 0 ? '' : url.slice(mark + 1));
    return true;
  };
}

/** The answer to a preflight request; whether the origin may go on is in the headers that each answer to it gets (Fetch Standard, CORS protocol). */
const PREFLIGHT: OAuthAnswer = { status: 200, headers: ['cache-control', 'no-store'], body: '' };
const PREFLIGHT_KEPT_SECONDS = 600;
/** A page at the origin of a tool without a secret may read the answer; cookies are never part of it. */
const corsHeaders = (origin: string, isAllowed: boolean): string[] => [
  ...['vary', 'origin'],
  ...(isAllowed
    ? [
        ...['access-control-allow-origin', origin, 'access-control-allow-methods', 'POST', 'access-control-allow-headers', 'authorization, content-type'],
        ...['access-control-max-age', String(PREFLIGHT_KEPT_SECONDS)],
      ]
    : []),
];

const allowPost = (answer: OAuthAnswer): OAuthAnswer => ({ ...answer, headers: [...answer.headers, 'allow', 'POST'] });
