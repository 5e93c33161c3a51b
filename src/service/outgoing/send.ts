import { performance } from 'node:perf_hooks';
import { Agent, buildConnector, type Dispatcher, EnvHttpProxyAgent } from 'undici';
import type { Send, WireAnswer, WireFailure } from '../../core/oauth/wire.ts';
import { AddressForbidden, isForbiddenSocket, mayBeCalled, outgoingLookup } from './lookup.ts';

const CONNECT_LIMIT_MS = 5_000;
const LATE_MS = 1_000;
const LATE_READ_MS = 2_000;

/** Errors that prove that no byte of the request left: names, connections, TLS. Everything else is unclear. */
const UNSENT: Record<string, string> = {
  ENOTFOUND: 'dns',
  EAI_AGAIN: 'dns',
  ECONNREFUSED: 'refused',
  EHOSTUNREACH: 'refused',
  ENETUNREACH: 'refused',
  UND_ERR_CONNECT_TIMEOUT: 'connect_timeout',
  ADDRESS_FORBIDDEN: 'address_forbidden',
  CERT_HAS_EXPIRED: 'tls',
  DEPTH_ZERO_SELF_SIGNED_CERT: 'tls',
  SELF_SIGNED_CERT_IN_CHAIN: 'tls',
  UNABLE_TO_VERIFY_LEAF_SIGNATURE: 'tls',
  ERR_TLS_CERT_ALTNAME_INVALID: 'tls',
  EPROTO: 'tls',
};

/** The proxy through which calls leave, from the variables that all programs share; null: none. */
export interface OutgoingProxy {
  http: string | null;
  https: string | null;
  /** Hosts that are called directly, separated by commas. */
  except: string;
}

export interface Outgoing {
  send: Send;
  /** For calls whose answers are streamed: the relay's. */
  dispatcher: Dispatcher;
  close(): Promise<void>;
}

/**
 * The one way out: undici pools, a deadline for the whole exchange, a size limit, no redirects, no automatic retry.
 * `privateHosts`: names that may resolve to private addresses.
 */
export function outgoing(privateHosts: readonly string[], proxy: OutgoingProxy | null = null): Outgoing {
  const options = { timeout: CONNECT_LIMIT_MS, lookup: outgoingLookup(privateHosts) };
  const connect = proxy === null ? checkedConnector(options, privateHosts) : options;
  const pools = (more: Agent.Options): Dispatcher =>
    proxy === null
      ? new Agent({ connect, ...more })
      : // With a proxy the names are resolved there: it is the proxy that must reject private addresses.
        new EnvHttpProxyAgent({
          connect: options,
          ...more,
          ...(proxy.http ? { httpProxy: proxy.http } : {}),
          ...(proxy.https ? { httpsProxy: proxy.https } : {}),
          noProxy: ['localhost', '.localhost', '127.0.0.1', '[::1]', proxy.except].filter(Boolean).join(','),
        });
  const pooled = pools({ connections: 64, pipelining: 1, keepAliveTimeout: 4_000 });
  const relayed = pools({ connections: 256, pipelining: 1, keepAliveTimeout: 4_000 });
  // A pooled socket that the far side has just closed makes "was it sent?" unanswerable: where it matters, each request has its own.
  const single = pools({ connections: 64, pipelining: 0 });

  const send: Send = async (request) => {
    const startedAt = performance.now();
    const took = () => Math.round(performance.now() - startedAt);
    const failure = (kind: WireFailure['kind'], reason: string): WireFailure => ({ kind, reason, tookMs: took() });
    if (!URL.canParse(request.url)) return failure('unsent', 'not_an_address');
    const url = new URL(request.url);
    if (!mayBeCalled(url.hostname, privateHosts)) return failure('unsent', 'address_forbidden');
    const deadline = patientDeadline(request.deadlineMs);
    try {
      const response = await (request.freshSocket ? single : pooled).request({
        origin: url.origin,
        path: `${url.pathname}${url.search}`,
        method: request.method as 'GET',
        headers: { 'user-agent': 'rusty-kettle', ...request.headers },
        body: request.body ?? null,
        signal: deadline.signal,
        headersTimeout: 0, // one deadline, ours
        bodyTimeout: 0,
      });
      const { body, cut } = await readBody(response.body, request.limitBytes);
      deadline.clear();
      const answer: WireAnswer = { kind: 'answer', status: response.statusCode, headers: flatten(response.headers), body, cut, tookMs: took() };
      return request.hides ? { ...answer, hides: request.hides } : answer;
    } catch (error) {
      deadline.clear();
      const code = errorCode(error);
      const unsent = UNSENT[code] ?? (code.startsWith('ERR_TLS') || code.startsWith('ERR_SSL') ? 'tls' : undefined);
      if (unsent) return failure('unsent', unsent);
      return failure('unclear', deadline.signal.aborted || code.includes('TIMEOUT') ? 'timeout' : 'reset');
    }
  };
  return { send, dispatcher: relayed, close: async () => void (await Promise.all([pooled.close(), single.close(), relayed.destroy()])) };
}

/** Connects, then looks at the address of the socket that will be used: a name that changes its mind in between leads nowhere. */
function checkedConnector(options: buildConnector.BuildOptions, privateHosts: readonly string[]): buildConnector.connector {
  const connect = buildConnector(options);
  return (target, callback) =>
    connect(target, (...[error, socket]: Parameters<buildConnector.Callback>) => {
      if (error || !socket) return callback(error ?? new Error('no socket'), null);
      if (!isForbiddenSocket(target.hostname.replace(/^\[|\]$/g, ''), socket.remoteAddress, privateHosts)) return callback(null, socket);
      socket.destroy();
      return callback(new AddressForbidden('private address'), null);
    });
}

/**
 * A deadline that knows a freeze: fired more than a second late, this process was stopped, and the answer may lie unread in its
 * socket. Then reading goes on for two more seconds before the request is given up.
 */
function patientDeadline(ms: number): { signal: AbortSignal; clear(): void } {
  const controller = new AbortController();
  const dueAt = performance.now() + ms;
  let timer = setTimeout(() => {
    if (performance.now() - dueAt > LATE_MS) timer = setTimeout(() => controller.abort(), LATE_READ_MS);
    else controller.abort();
  }, ms);
  return { signal: controller.signal, clear: () => clearTimeout(timer) };
}

function errorCode(error: unknown): string {
  for (let at: unknown = error, depth = 0; at instanceof Error && depth < 5; at = at.cause, depth += 1) {
    const code = (at as NodeJS.ErrnoException).code;
    if (typeof code === 'string' && code !== 'ABORT_ERR') return code;
  }
  return '';
}

async function readBody(stream: AsyncIterable<Buffer> & { destroy(): unknown }, limitBytes: number): Promise<{ body: string; cut: boolean }> {
  const parts: Buffer[] = [];
  let size = 0;
  for await (const part of stream) {
    size += part.length;
    if (size > limitBytes) {
      parts.push(part.subarray(0, part.length - (size - limitBytes)));
      stream.destroy();
      return { body: Buffer.concat(parts).toString('utf8'), cut: true };
    }
    parts.push(part);
  }
  return { body: Buffer.concat(parts).toString('utf8'), cut: false };
}

const flatten = (headers: Record<string, string | string[] | undefined>): Record<string, string> =>
  Object.fromEntries(Object.entries(headers).map(([name, value]) => [name.toLowerCase(), Array.isArray(value) ? value.join(', ') : (value ?? '')]));
