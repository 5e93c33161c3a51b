import { randomUUID } from 'node:crypto';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { buffer } from 'node:stream/consumers';
import type { Dispatcher } from 'undici';
import { deadTokenInside } from '../../core/diagnosis/dead-token.ts';
import { Fault } from '../../core/fault.ts';
import { inSession } from '../../core/provider/api.ts';
import { quotaInWords } from '../../core/quota/windows.ts';
import { mayBeCalled } from '../outgoing/index.ts';
import type { Ports } from '../ports.ts';
import type { Quotas, QuotaUse } from '../quotas/index.ts';
import type { Sightings } from '../renewal/index.ts';
import type { ApiToken, ApiTokens, CallerDirectory, PermittedConnection, WhoCalls } from '../tokens/index.ts';
import type { RelayTokens } from '../tool-sign-ins/index.ts';
import type { Usage } from '../usage/index.ts';
import { type Call, callReader, ROUTE } from './relay-call.ts';
import { headersBack, headersOut } from './relay-headers.ts';
import { hasBody, refuse, whyBroke } from './relay-problem.ts';
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

/** A body of known length up to this is read before it is sent, and can be sent again. */
const MAX_REPLAYED = 64 * 1024;
const QUOTA_PATIENCE_MS = 10_000;
const MAX_PEEKED = 16 * 1024;

/** Sends a caller's call on with the token added; the token never leaves. @throws nothing: each rejection is a problem answer */
export function relayLane(parts: Parts): RelayLane {
  const { usage, ports } = parts;
  const runId = randomUUID().slice(0, 8);
  const relay = relayCall(parts);
  let served = 0;
  const serve = async (request: IncomingMessage, response: ServerResponse): Promise<void> => {
    const startedAt = performance.now();
    served += 1;
    const requestId = `${runId}-r${served.toString(36)}`;
    try {
      const done = await (ports.traces.isOn ? traced(ports, () => relay(request, response)) : relay(request, response));
      const { call, sent } = done;
      usage.count(call.caller.id, call.connection, call.keyId, 'relayed');
      parts.relayed.note(call, sent);
      logged(ports.log, done, { requestId, startedAt });
      if (response.headersSent) return;
      if (sent.end === 'broke') throw new Fault('UPSTREAM_BROKE', { retryAfterMs: 1_000, detail: whyBroke(sent.code) });
      if (sent.end === 'slow') throw new Fault('UPSTREAM_SLOW', { retryAfterMs: 1_000 });
    } catch (error) {
      refuse(response, error, { requestId, log: ports.log });
    }
  };
  return (request, response) => {
    if (!request.url?.startsWith(ROUTE)) return false;
    void serve(request, response);
    return true;
  };
}

/** How a call ended; `renewed`: it was sent twice, the second time with a newer token. */
interface Done {
  call: Call;
  sent: Sent;
  renewed: boolean;
}

function relayCall(parts: Parts): (request: IncomingMessage, response: ServerResponse) => Promise<Done> {
  const { usage, quotas } = parts;
  const callOf = callReader(parts);
  return async (request, response) => {
    const epoch = parts.callers.epoch();
    if (parts.tooBlind()) throw new Fault('DATABASE_UNAVAILABLE', { detail: 'It has been away for longer than calls may go on without it.' });
    const read = callOf(request);
    let call = read instanceof Promise ? await read : read;
    try {
      let grantId = refuseIdle(call.connection);
      const uses = call.api.quota.length === 0 ? NO_USES : quotas.usesOf(quotaCall(call));
      if (uses.length > 0 && !quotas.takeLeased(uses)) await takeQuota(quotas, uses);
      let token = parts.tokens.ready(grantId, setUpFor(call)) ?? (await parts.tokens.get(grantId, setUpFor(call)));
      // Something was paused, retired or withdrawn while this waited: ask again before the token is used.
      if (parts.callers.epoch() !== epoch) {
        call = await callOf(request);
        grantId = refuseIdle(call.connection);
        token = await parts.tokens.get(grantId, setUpFor(call));
      }
      const { body, replayable } = hasBody(request) ? await bodyOf(request) : NO_BODY;
      let [renewed, forced] = [false, false];
      for (;;) {
        const what = toSend(parts, call, token, { request, body, uses, mayRetry: replayable && !renewed });
        const sent = await sendOn(parts.dispatcher, request, response, what);
        if (sent.end !== 'held') {
          if (forced && sent.end === 'done' && sent.status < 300) tookRenewed(parts, call);
          return { call, sent, renewed };
        }
        const refused = sent.status === 401 || deadTokenInside(call.api, call.connection.setUp.definition.dialect, sent.body.toString('utf8'));
        const next = refused && !renewed ? await newer(parts, call, { grantId, used: token }) : null;
        if (next === null) return { call, sent: answerHeld(response, what, sent), renewed };
        await takeQuota(quotas, uses); // the provider counts both
        [token, forced, renewed] = [next.token, next.forced, true];
      }
    } catch (error) {
      usage.count(call.caller.id, call.connection, call.keyId, error instanceof Fault && error.code === 'QUOTA_USED_UP' ? 'limited' : 'refused');
      throw error;
    }
  };
}

const NO_USES: readonly QuotaUse[] = [];
const NO_BODY = { body: null, replayable: true };

/** @throws {Fault} CONNECTION_PAUSED, REVOKED, CONNECTION_NOT_CONSENTED, ORIGIN_UNCONFIRMED */
function refuseIdle(connection: PermittedConnection): string {
  if (connection.intent === 'paused') throw new Fault('CONNECTION_PAUSED');
  if (connection.intent === 'revoked') throw new Fault('REVOKED');
  if (connection.grantId === null) throw new Fault('CONNECTION_NOT_CONSENTED');
  if (connection.setUp.unconfirmed) throw new Fault('ORIGIN_UNCONFIRMED');
  return connection.grantId;
}

/** The newer token after a rejection: the current one if another was used, else one that is renewed for it (`forced`); null: it was got only just now. */
async function newer({ tokens, ports }: Parts, call: Call, { grantId, used }: { grantId: string; used: ApiToken }) {
  const setUp = setUpFor(call);
  const current = await tokens.get(grantId, setUp);
  if (current.version > used.version) return { token: current, forced: false };
  if (ports.clock.now() < used.replaceableAt) return null;
  return { token: await tokens.get(grantId, setUp, { newerThan: used.version }), forced: true };
}

/** A token that should have been good was rejected, and the renewed one is taken: it lives shorter than stated. */
function tookRenewed({ sightings }: Parts, call: Call): void {
  const { connection } = call;
  const { dialect } = connection.setUp.definition;
  if (!isSessionApi(call) && !dialect.renewal_ends_access_token) sightings.saw(connection.clientRecordId, 'access_token_short_lived');
}

/** @throws {Fault} QUOTA_USED_UP */
async function takeQuota(quotas: Quotas, uses: readonly QuotaUse[]): Promise<void> {
  const waitMs = await quotas.take(uses, QUOTA_PATIENCE_MS);
  if (waitMs !== null) throw new Fault('QUOTA_USED_UP', { detail: usedUp(uses), retryAfterMs: waitMs });
}

const usedUp = (uses: readonly QuotaUse[]): string => `${uses.map((use) => quotaInWords(use.quota, use.most)).join(', ')}.`;

interface Sending {
  request: IncomingMessage;
  body: ToSend['body'];
  uses: readonly QuotaUse[];
  /** Once more with another token, where the API rejects this one. */
  mayRetry: boolean;
}

function toSend(parts: Parts, call: Call, token: ApiToken, { request, body, uses, mayRetry }: Sending): ToSend {
  const api = isSessionApi(call) ? inSession(call.api, token) : call.api;
  const base = api.base_url.endsWith('/') ? api.base_url.slice(0, -1) : api.base_url;
  if (base.includes('{')) throw new Fault('HOST_NOT_LISTED', { detail: `A value is missing in ${base}.` });
  const url = new URL(`${base}${call.pathAndQuery}`);
  if (!mayBeCalled(url.hostname, parts.privateHosts))
    throw new Fault('HOST_NOT_LISTED', { detail: 'Its address is a private one, which this service does not call unless a setting allows it.' });
  const secret = token.access.reveal();
  const peeks = mayRetry && call.connection.setUp.definition.dialect.error_at !== undefined;
  const contentLength = body instanceof Buffer ? String(body.length) : body === null ? undefined : request.headers['content-length'];
  return {
    origin: url.origin,
    path: `${url.pathname}${url.search}`,
    method: call.method,
    headers: headersOut(request.rawHeaders, api, secret, contentLength),
    body,
    waitMs: parts.waitMs,
    mostMs: parts.mostMs,
    holds(status, headers) {
      if (uses.length > 0 || call.api.rate_headers)
        parts.quotas.learn(uses, call.api, { status, header: (name) => (Array.isArray(headers[name]) ? headers[name][0] : headers[name]) });
      if (mayRetry && status === 401) return true;
      return peeks && status === 200 && /json/.test(String(headers['content-type'])) && Number(headers['content-length'] ?? Number.NaN) <= MAX_PEEKED;
    },
    back: (headers) => headersBack(headers, { token: secret, url: url.href, base, relayBase: call.relayBase }),
  };
}

/** An answer that was kept back goes to the caller as it came. */
function answerHeld(response: ServerResponse, what: ToSend, { status, headers, body }: Extract<Sent, { end: 'held' }>): Sent {
  response.writeHead(status, what.back(headers));
  response.end(body);
  return { end: 'done', status, bytes: body.length, seen: { headers, start: body.subarray(0, MAX_PEEKED) } };
}

const traced = (ports: Parts['ports'], work: () => Promise<Done>): Promise<Done> =>
  ports.traces.span('relay.call', {}, async (note) => {
    const done = await work();
    const { caller, connection, method } = done.call;
    note({ caller: caller.name, connection: connection.name, 'http.request.method': method, end: done.sent.end, renewed: done.renewed });
    if (done.sent.end === 'done') note({ 'http.response.status_code': done.sent.status });
    return done;
  });

function logged(log: Parts['ports']['log'], { call, sent: ended, renewed }: Done, { requestId, startedAt }: { requestId: string; startedAt: number }): void {
  const level = ended.end === 'broke' || ended.end === 'slow' ? 'warn' : 'debug';
  if (!log.isLevelEnabled(level)) return;
  const sent = ended.end === 'done' ? { end: ended.end, status: ended.status, bytes: ended.bytes } : ended; // what was seen is not for the log
  const { caller, connection, method } = call;
  const ms = Math.round(performance.now() - startedAt);
  log[level]({ event: 'relay.relayed', requestId, caller: caller.name, connection: connection.name, method, ...sent, renewed, ms }, 'relayed');
}

const isSessionApi = (call: Call): boolean => call.connection.setUp.session?.api === call.api;
/** The session is one API's; the others are called with the access token itself. */
const setUpFor = (call: Call): Pick<PermittedConnection['setUp'], 'definition' | 'session'> =>
  call.connection.setUp.session === null || isSessionApi(call) ? call.connection.setUp : { definition: call.connection.setUp.definition, session: null };

const quotaCall = (call: Call) => ({
  api: call.api,
  clientRecordId: call.connection.clientRecordId,
  connectionId: call.connection.id,
  callerId: call.caller.id,
  share: call.permission.share,
  method: call.method,
  path: call.path,
});

/** A short body of known length is read first, so that it can be sent again; any other is streamed and sent once. */
async function bodyOf(request: IncomingMessage): Promise<{ body: ToSend['body']; replayable: boolean }> {
  if (request.headers['transfer-encoding'] !== undefined || Number(request.headers['content-length']) > MAX_REPLAYED)
    return { body: request, replayable: false };
  return { body: await buffer(request), replayable: true };
}
