import { randomUUID } from 'node:crypto';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { buffer } from 'node:stream/consumers';
import type { Dispatcher } from 'undici';
import { overrides, type Permission, RELAY_METHODS, relayPermission } from '../../core/callers/permissions.ts';
import { isPlainPath } from '../../core/calls/path.ts';
import { deadTokenInside } from '../../core/diagnosis/dead-token.ts';
import { Fault } from '../../core/fault.ts';
import { readPersonSegment } from '../../core/people/person-key.ts';
import { type Api, inSession } from '../../core/provider/api.ts';
import { quotaInWords } from '../../core/quota/windows.ts';
import { mayBeCalled } from '../outgoing/index.ts';
import type { Ports } from '../ports.ts';
import { problemOf } from '../problems.ts';
import type { Quotas, QuotaUse } from '../quotas/index.ts';
import type { Sightings } from '../renewal/index.ts';
import type { ApiToken, ApiTokens, CallerDirectory, KnownCaller, PermittedConnection, WhoCalls } from '../tokens/index.ts';
import { RELAY_TOKEN_PREFIX, type RelayTokens } from '../tool-sign-ins/index.ts';
import type { Usage } from '../usage/index.ts';
import { headersBack, headersOut } from './relay-headers.ts';
import { type Sent, sendOn, type ToSend } from './relay-send.ts';
import type { Relayed } from './relayed.ts';

/** `ANY /relay/{connection}/{path}` ahead of Express. True: the request is taken. */
export type RelayLane = (request: IncomingMessage, response: ServerResponse) => boolean;

interface Parts {
  publicUrl: string;
  callers: CallerDirectory;
  whoCalls: WhoCalls;
  relayTokens: RelayTokens;
  tokens: ApiTokens;
  quotas: Quotas;
  usage: Usage;
  /** How the calls went. */
  relayed: Relayed;
  sightings: Pick<Sightings, 'saw'>;
  dispatcher: Dispatcher;
  tooBlind(): boolean;
  addressOf(request: IncomingMessage): string;
  /** The longest wait for an answer, and for all of one, in ms. */
  waitMs: number;
  mostMs: number;
  /** Names that may resolve to private addresses. */
  privateHosts: readonly string[];
  ports: Pick<Ports, 'clock' | 'log' | 'traces'>;
}

const ROUTE = '/relay/';
/** Below a shared connection: the person, by the application's own key as one segment, then the path of the API. */
const PERSON_PATH = /^[^/]+\/people\/([^/]{1,2400})(\/.*)?$/;
const OPAQUE = new RegExp(`^Bearer (${RELAY_TOKEN_PREFIX}[A-Za-z0-9_-]+)$`, 'i');
const METHODS: ReadonlySet<string> = new Set(RELAY_METHODS);
/** A body of known length up to this is read before it is sent, and can be sent again. */
const REPLAYED_MOST = 64 * 1024;
const QUOTA_PATIENCE_MS = 10_000;
const PEEKED_MOST = 16 * 1024;

interface Call {
  caller: KnownCaller;
  keyId: string | null;
  connection: PermittedConnection;
  permission: Permission;
  api: Api;
  method: string;
  /** Below the base URL, without and with its query. */
  path: string;
  pathAndQuery: string;
  relayBase: string;
}

/** Sends a caller's call on with the token added; the token never leaves. @throws nothing: each rejection is a problem answer */
export function relayLane(parts: Parts): RelayLane {
  const { usage, ports, quotas } = parts;
  const runId = randomUUID().slice(0, 8);
  let served = 0;

  const whoCalls = async (request: IncomingMessage): Promise<{ caller: KnownCaller; keyId: string | null; only: string | null }> => {
    const { authorization } = request.headers;
    const opaque = authorization === undefined ? undefined : OPAQUE.exec(authorization)?.[1];
    if (opaque !== undefined) {
      const found = await parts.relayTokens.check(opaque);
      const caller = found && (await parts.callers.find(found.callerId));
      if (found && caller) return { caller, keyId: null, only: found.connection };
      throw new Fault('CALLER_UNKNOWN', { detail: 'The access token of the tool is unknown, has expired, or its sign-in is over.' });
    }
    return { ...(await parts.whoCalls(authorization, parts.addressOf(request))), only: null };
  };
  const callOf = async (request: IncomingMessage): Promise<Call> => {
    const method = request.method ?? '';
    if (!METHODS.has(method)) throw new Fault('METHOD_REFUSED');
    const target = (request.url ?? '').slice(ROUTE.length);
    const mark = target.indexOf('?');
    const path = mark < 0 ? target : target.slice(0, mark);
    const { caller, keyId, only } = await whoCalls(request);
    const slash = path.indexOf('/');
    const named = slash < 0 ? path : path.slice(0, slash);
    // A connection's name holds no ~: what stands after it names one of several APIs.
    const [name = '', apiName] = named.split('~', 2);
    const own = only !== null && only !== name ? undefined : caller.connections.get(name);
    const ofPerson = only === null && (own === undefined || own.shared) ? PERSON_PATH.exec(path) : null;
    const key = ofPerson ? readPersonSegment(ofPerson[1] as string) : null;
    const connection = ofPerson ? (key !== null && (await parts.callers.person(caller, name, key))) || undefined : own;
    const rest = ofPerson ? (ofPerson[2] ?? '/') : slash < 0 ? '/' : path.slice(slash);
    if (!isPlainPath(rest)) throw new Fault('PATH_UNSAFE');
    if (connection?.shared)
      throw new Fault('NOT_PERMITTED', {
        detail: `${name} is shared: it holds a grant for each person.`,
        remedy: `Call ${ROUTE}${name}/people/KEY/\u2026, the key percent-encoded.`,
      });
    const overriding = overrides(request.rawHeaders, mark < 0 ? '' : target.slice(mark));
    const permission = connection && relayPermission(connection.permissions, method, rest, overriding);
    if (connection && !permission && overriding && relayPermission(connection.permissions, method, rest))
      throw new Fault('NOT_PERMITTED', {
        detail: `${caller.name} is limited to certain methods or paths, and a header or _method of this call asks for another.`,
      });
    if (!connection || !permission)
      throw new Fault('NOT_PERMITTED', { detail: `${caller.name} may not send ${method} ${rest.slice(0, 200)} through ${name.slice(0, 63)}.` });
    const api = apiName === undefined ? connection.setUp.apis[0] : connection.setUp.apis.find((one) => one.name === apiName);
    if (!api) throw new Fault('NOT_FOUND', { detail: `The APIs of ${name}: ${connection.setUp.apis.map((one) => one.name).join(', ')}.` });
    return {
      caller,
      keyId,
      connection,
      permission,
      api,
      method,
      path: rest,
      pathAndQuery: mark < 0 ? rest : `${rest}${target.slice(mark)}`,
      relayBase: `${parts.publicUrl}/relay/${named}${ofPerson ? `/people/${ofPerson[1]}` : ''}`,
    };
  };
  const refuseIdle = (connection: PermittedConnection): string => {
    if (connection.intent === 'paused') throw new Fault('CONNECTION_PAUSED');
    if (connection.intent === 'revoked') throw new Fault('REVOKED');
    if (connection.grantId === null) throw new Fault('CONNECTION_NOT_CONSENTED');
    if (connection.setUp.unconfirmed) throw new Fault('ORIGIN_UNCONFIRMED');
    return connection.grantId;
  };
  /** The newer token after a rejection: the current one if another was used, else one that is renewed for it (`forced`); null: it was got only just now. */
  const newer = async (call: Call, grantId: string, used: ApiToken): Promise<{ token: ApiToken; forced: boolean } | null> => {
    const setUp = setUpFor(call);
    const current = await parts.tokens.get(grantId, setUp);
    if (current.version > used.version) return { token: current, forced: false };
    if (ports.clock.now() < used.replaceableAt) return null;
    return { token: await parts.tokens.get(grantId, setUp, { newerThan: used.version }), forced: true };
  };

  const relay = async (request: IncomingMessage, response: ServerResponse): Promise<{ call: Call; sent: Sent; renewed: boolean }> => {
    const epoch = parts.callers.epoch();
    if (parts.tooBlind()) throw new Fault('DATABASE_UNAVAILABLE', { detail: 'It has been away for longer than calls may go on without it.' });
    let call = await callOf(request);
    try {
      let grantId = refuseIdle(call.connection);
      const uses = call.api.quota.length === 0 ? NO_USES : quotas.usesOf(quotaCall(call));
      if (uses.length > 0) await takeQuota(uses);
      let token = parts.tokens.ready(grantId, setUpFor(call)) ?? (await parts.tokens.get(grantId, setUpFor(call)));
      // Something was paused, retired or withdrawn while this waited: ask again before the token is used.
      if (parts.callers.epoch() !== epoch) {
        call = await callOf(request);
        grantId = refuseIdle(call.connection);
        token = await parts.tokens.get(grantId, setUpFor(call));
      }
      const { body, replayable } = await bodyOf(request);
      let [renewed, forced] = [false, false];
      for (;;) {
        const what = toSend(call, token, uses, { request, body, mayRetry: replayable && !renewed });
        const sent = await sendOn(parts.dispatcher, request, response, what);
        if (sent.end !== 'held') {
          if (forced && sent.end === 'done' && sent.status < 300) tookRenewed(call);
          return { call, sent, renewed };
        }
        const refused = sent.status === 401 || deadTokenInside(call.api, call.connection.setUp.definition.dialect, sent.body.toString('utf8'));
        const next = refused && !renewed ? await newer(call, grantId, token) : null;
        if (next !== null)
          await takeQuota(uses); // the provider counts both
        else {
          response.writeHead(sent.status, what.back(sent.status, sent.headers));
          response.end(sent.body);
          const seen = { headers: sent.headers, start: sent.body.subarray(0, PEEKED_MOST) };
          return { call, sent: { end: 'done', status: sent.status, bytes: sent.body.length, seen }, renewed };
        }
        [token, forced, renewed] = [next.token, next.forced, true];
      }
    } catch (error) {
      usage.count(call.caller.id, call.connection, call.keyId, error instanceof Fault && error.code === 'QUOTA_USED_UP' ? 'limited' : 'refused');
      throw error;
    }
  };
  const traced: typeof relay = (request, response) =>
    ports.traces.span('relay.call', {}, async (note) => {
      const done = await relay(request, response);
      const { caller, connection, method } = done.call;
      note({ caller: caller.name, connection: connection.name, 'http.request.method': method, end: done.sent.end, renewed: done.renewed });
      if (done.sent.end === 'done') note({ 'http.response.status_code': done.sent.status });
      return done;
    });
  /** A token that should have been good was rejected, and the renewed one is taken: it lives shorter than stated. */
  const tookRenewed = (call: Call): void => {
    const { connection } = call;
    const { dialect } = connection.setUp.definition;
    if (!isSessionApi(call) && !dialect.renewal_ends_access_token) parts.sightings.saw(connection.clientRecordId, 'access_token_short_lived');
  };
  /** @throws {Fault} QUOTA_USED_UP */
  const takeQuota = async (uses: readonly QuotaUse[]): Promise<void> => {
    const waitMs = await quotas.take(uses, QUOTA_PATIENCE_MS);
    if (waitMs !== null) throw new Fault('QUOTA_USED_UP', { detail: usedUp(uses), retryAfterMs: waitMs });
  };
  const toSend = (
    call: Call,
    token: ApiToken,
    uses: readonly QuotaUse[],
    { request, body, mayRetry }: { request: IncomingMessage; body: ToSend['body']; mayRetry: boolean },
  ): ToSend => {
    const api = isSessionApi(call) ? inSession(call.api, token) : call.api;
    const base = api.base_url.replace(/\/$/, '');
    if (base.includes('{')) throw new Fault('HOST_NOT_LISTED', { detail: `A value is missing in ${base}.` });
    const url = new URL(`${base}${call.pathAndQuery}`);
    if (!mayBeCalled(url.hostname, parts.privateHosts))
      throw new Fault('HOST_NOT_LISTED', { detail: 'Its address is a private one, which this service does not call unless a setting allows it.' });
    const secret = token.access.reveal();
    const peeks = mayRetry && call.connection.setUp.definition.dialect.error_at !== undefined;
    return {
      origin: url.origin,
      path: `${url.pathname}${url.search}`,
      method: call.method,
      headers: headersOut(
        request.rawHeaders,
        api,
        secret,
        body instanceof Buffer ? String(body.length) : body === null ? undefined : request.headers['content-length'],
      ),
      body,
      waitMs: parts.waitMs,
      mostMs: parts.mostMs,
      holds(status, headers) {
        if (uses.length > 0 || call.api.rate_headers)
          quotas.learn(uses, call.api, { status, header: (name) => (Array.isArray(headers[name]) ? headers[name][0] : headers[name]) });
        if (mayRetry && status === 401) return true;
        return peeks && status === 200 && /json/.test(String(headers['content-type'])) && Number(headers['content-length'] ?? Number.NaN) <= PEEKED_MOST;
      },
      back: (_status, headers) => headersBack(headers, { token: secret, url: url.href, base, relayBase: call.relayBase }),
    };
  };
  const refuse = (response: ServerResponse, error: unknown, requestId: string): void => {
    if (response.req.destroyed && !response.req.complete) return; // the caller hung up while it was still sending
    const fault = error instanceof Fault ? error : new Fault('INTERNAL', { cause: error });
    if (fault.code === 'INTERNAL')
      ports.log.error(
        { event: 'relay.failed', requestId, cause: error instanceof Error ? `${error.name}: ${(error.stack ?? '').split('\n')[1] ?? ''}` : 'unknown' },
        'relay failed',
      );
    if (response.headersSent) return void response.destroy();
    const body = JSON.stringify(problemOf(fault, requestId));
    response.writeHead(fault.status, [
      ...['content-type', 'application/problem+json', 'cache-control', 'no-store', 'x-content-type-options', 'nosniff', 'x-request-id', requestId],
      ...['content-length', String(Buffer.byteLength(body))],
      ...(fault.retryAfterMs === undefined ? [] : ['retry-after', String(Math.max(1, Math.ceil(fault.retryAfterMs / 1000)))]),
      ...(fault.status === 401 ? ['www-authenticate', 'Basic realm="rusty-kettle"'] : []),
      // What was not read of the request would be taken for the next one.
      ...(response.req.complete || !hasBody(response.req) ? [] : ['connection', 'close']),
    ]);
    response.end(body);
  };
  const serve = async (request: IncomingMessage, response: ServerResponse): Promise<void> => {
    const startedAt = performance.now();
    served += 1;
    const requestId = `${runId}-r${served.toString(36)}`;
    try {
      const { call, sent: ended, renewed } = await (ports.traces.isOn ? traced(request, response) : relay(request, response));
      usage.count(call.caller.id, call.connection, call.keyId, 'relayed');
      parts.relayed.note(call, ended);
      const sent = ended.end === 'done' ? { end: ended.end, status: ended.status, bytes: ended.bytes } : ended; // what was seen is not for the log
      const level = sent.end === 'broke' || sent.end === 'slow' ? 'warn' : 'debug';
      if (ports.log.isLevelEnabled(level))
        ports.log[level](
          {
            event: 'relay.relayed',
            requestId,
            caller: call.caller.name,
            connection: call.connection.name,
            method: call.method,
            ...sent,
            renewed,
            ms: Math.round(performance.now() - startedAt),
          },
          'relayed',
        );
      if (sent.end === 'broke' && !response.headersSent) throw new Fault('UPSTREAM_BROKE', { retryAfterMs: 1_000, detail: whyBroke(sent.code) });
      if (sent.end === 'slow' && !response.headersSent) throw new Fault('UPSTREAM_SLOW', { retryAfterMs: 1_000 });
    } catch (error) {
      refuse(response, error, requestId);
    }
  };
  return (request, response) => {
    const url = request.url ?? '';
    if (!url.startsWith(ROUTE)) return false;
    void serve(request, response);
    return true;
  };
}

const NO_USES: readonly QuotaUse[] = [];
const isSessionApi = (call: Call): boolean => call.connection.setUp.session?.api === call.api;
/** The session is one API's; the others are called with the access token itself. */
const setUpFor = (call: Call): Pick<PermittedConnection['setUp'], 'definition' | 'session'> =>
  isSessionApi(call) ? call.connection.setUp : { definition: call.connection.setUp.definition, session: null };

const quotaCall = (call: Call) => ({
  api: call.api,
  clientRecordId: call.connection.clientRecordId,
  connectionId: call.connection.id,
  callerId: call.caller.id,
  share: call.permission.share,
  method: call.method,
  path: call.path,
});

const usedUp = (uses: readonly QuotaUse[]): string => `${uses.map((use) => quotaInWords(use.quota, use.most)).join(', ')}.`;

const whyBroke = (code: string): string => {
  if (/ENOTFOUND|EAI_AGAIN/.test(code)) return 'The name of its host does not resolve.';
  if (code === 'ADDRESS_FORBIDDEN') return 'Its address is a private one, which this service does not call unless a setting allows it.';
  if (/CERT|TLS|SSL|SELF_SIGNED|VERIFY/.test(code)) return 'Its TLS certificate is not good.';
  if (code === 'ECONNREFUSED') return 'Its host rejects the connection.';
  return 'The connection broke, or what came was no HTTP.';
};

const hasBody = (request: IncomingMessage): boolean => request.headers['transfer-encoding'] !== undefined || Number(request.headers['content-length'] ?? 0) > 0;

/** A short body of known length is read first, so that it can be sent again; any other is streamed and sent once. */
async function bodyOf(request: IncomingMessage): Promise<{ body: ToSend['body']; replayable: boolean }> {
  if (!hasBody(request)) return { body: null, replayable: true };
  if (request.headers['transfer-encoding'] !== undefined || Number(request.headers['content-length']) > REPLAYED_MOST)
    return { body: request, replayable: false };
  return { body: await buffer(request), replayable: true };
}
