import type { CallAnswer } from '../../api/common.ts';
import type { Diagnosis } from '../../api/diagnosis.ts';
import type { Pair } from '../../core/calls/call.ts';
import { needsOf } from '../../core/calls/needs.ts';
import { pageNote } from '../../core/calls/page-note.ts';
import { isPlainPath } from '../../core/calls/path.ts';
import { type CallSeen, diagnoseCall } from '../../core/diagnosis/call.ts';
import { shownClaims } from '../../core/diagnosis/claims.ts';
import { deadTokenInside } from '../../core/diagnosis/dead-token.ts';
import { Fault } from '../../core/fault.ts';
import { at } from '../../core/json.ts';
import { retryAfter } from '../../core/oauth/token-answer.ts';
import { reasonInWords, type WireOutcome } from '../../core/oauth/wire.ts';
import { type Api, callHeaders, inSession } from '../../core/provider/api.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import type { Secret } from '../../core/secret.ts';
import type { Ports } from '../ports.ts';
import type { Quotas } from '../quotas/index.ts';
import { type ApiToken, type ApiTokens, sessionOf } from '../tokens/index.ts';

const CALL_DEADLINE_MS = 20_000;
const SHOWN_BYTES = 64 * 1024;

/** Where a call goes, and the API that it belongs to. */
export interface ApiAddress {
  url: string;
  api: Api;
}

/**
 * The address of a call: a path below the first API's base URL, or a whole address below any base URL of the definition.
 * The token goes nowhere else. @throws {Fault} HOST_NOT_LISTED
 */
export function apiAddress(definition: ProviderDefinition, path: string): ApiAddress {
  const bases = definition.apis.map((api) => ({ api, base: api.base_url.replace(/\/$/, '') }));
  const listed = `Listed: ${bases.map((one) => one.base).join(', ')}.`;
  const whole = URL.canParse(path) ? path : null;
  const chosen = whole === null ? bases[0] : bases.find((one) => whole.startsWith(`${one.base}/`));
  if (!chosen) throw new Fault('HOST_NOT_LISTED', { detail: listed });
  const rest = whole === null ? path : whole.slice(chosen.base.length);
  if (!isPlainPath(rest.split('?', 1)[0] ?? '') || /[\s#]/.test(rest))
    throw new Fault('HOST_NOT_LISTED', { detail: 'A path starts with one / and holds no .., no //, no encoded slash or dot, no space and no #.' });
  if (chosen.base.includes('{')) throw new Fault('HOST_NOT_LISTED', { detail: `A value is missing in ${chosen.base}.` });
  const url = new URL(`${chosen.base}${rest}`);
  if (!url.href.startsWith(new URL(`${chosen.base}/`).href)) throw new Fault('HOST_NOT_LISTED', { detail: listed });
  return { url: url.href, api: chosen.api };
}

/** What is known of the token, for a verdict on an answer that is not good. */
export interface AboutToken extends Pick<CallSeen, 'scopesRequested' | 'scopesGranted' | 'ofClient' | 'byCertificate'> {
  definition: ProviderDefinition;
  needs?: readonly string[];
}

/** What is sent beside the token. */
export interface ToCall {
  method: string;
  headers?: readonly Pair[];
  body?: string | undefined;
}

/** The headers of a call as they go out: the API's own, unless another is composed; the token is put in whatever is composed. */
export function headersOf(api: Api, what: ToCall, token: string): Record<string, string> {
  const lower = (headers: Record<string, string>) => Object.fromEntries(Object.entries(headers).map(([name, value]) => [name.toLowerCase(), value]));
  const composed = Object.fromEntries((what.headers ?? []).map((one) => [one.name.toLowerCase(), one.value]));
  const carrier = api.token_header.toLowerCase();
  const own = lower(callHeaders(api, token));
  return { ...(what.body === undefined ? {} : { 'content-type': 'application/json' }), ...own, ...composed, [carrier]: own[carrier] ?? '' };
}

/** A grant whose API is called. `access`: its token where it is at hand; left out: it is issued. */
export interface CalledGrant {
  id: string;
  kind: string;
  connectionId: string;
  clientId: string | null;
  access?: Secret;
}

/**
 * Makes a call with a grant's token, counted in the provider's quotas; where the API wants the session step first, with the session's,
 * which is opened again once where the API says that it is gone. `patienceMs`: for how long it may wait where a quota is used up; null: it
 * is counted and made in any case, as what verifies a connection is. @throws {Fault} QUOTA_USED_UP, and as a token issuance and an opened session do
 */
export async function callGrant(
  s: { ports: Pick<Ports, 'send' | 'clock'>; apiTokens: ApiTokens; quotas: Quotas },
  { grant, address, what, about }: { grant: CalledGrant; address: ApiAddress; what: ToCall; about: AboutToken },
  patienceMs: number | null = null,
): Promise<CallAnswer> {
  const uses = usesOf(s.quotas, grant, address, what.method);
  const waitMs = uses.length === 0 ? null : await s.quotas.take(uses, patienceMs ?? 0);
  if (waitMs !== null && patienceMs !== null) throw new Fault('QUOTA_USED_UP', { retryAfterMs: waitMs });
  const answer = await callWithToken(s, { grant, address, what, about }, async () => void (uses.length > 0 && (await s.quotas.take(uses, 0))));
  if (answer.status !== null && uses.length > 0)
    s.quotas.learn(uses, address.api, { status: answer.status, header: (header) => answer.headers?.find((one) => one.name === header.toLowerCase())?.value });
  return answer;
}

/** The quota windows in which a call of our own counts: no caller's share. */
const usesOf = (quotas: Quotas, grant: CalledGrant, address: ApiAddress, method: string): ReturnType<Quotas['usesOf']> =>
  quotas.usesOf({
    api: address.api,
    clientRecordId: grant.clientId ?? '',
    connectionId: grant.connectionId,
    callerId: null,
    share: null,
    method,
    path: pathBelow(address),
  });

/** The path below the base URL, without its query. */
const pathBelow = ({ url, api }: ApiAddress): string => new URL(url).pathname.slice(new URL(`${api.base_url.replace(/\/$/, '')}/`).pathname.length - 1);

/** A token or session for a call, and how to send with it: opened again once where the API shows that it is gone. */
async function withToken<T>(
  s: { apiTokens: ApiTokens },
  { grant, address, about }: { grant: CalledGrant; address: ApiAddress; about: AboutToken },
  {
    send,
    isGone,
    countAgain,
  }: {
    send(address: ApiAddress, token: Secret): Promise<T>;
    /** True: the token is not good, and a newer one is worth a try. */
    isGone(answer: T): boolean;
    countAgain(): Promise<void>;
  },
): Promise<T> {
  const session = sessionOf(about.definition.apis, grant.kind);
  const isOwn = session?.api === address.api;
  if (!isOwn && grant.access) return send(address, grant.access);
  const setUp = { definition: about.definition, session: isOwn ? session : null };
  const call = (token: ApiToken): Promise<T> => send(isOwn ? atSession(address, token) : address, token.access);
  const token = await s.apiTokens.get(grant.id, setUp);
  const answer = await call(token);
  if (!isGone(answer)) return answer;
  const newer = await s.apiTokens.get(grant.id, setUp, { newerThan: token.version });
  await countAgain();
  return call(newer);
}

async function callWithToken(
  s: { ports: Pick<Ports, 'send' | 'clock'>; apiTokens: ApiTokens },
  { grant, address, what, about }: { grant: CalledGrant; address: ApiAddress; what: ToCall; about: AboutToken },
  countAgain: () => Promise<void>,
): Promise<CallAnswer> {
  const isOwn = sessionOf(about.definition.apis, grant.kind)?.api === address.api;
  // A test call shows what the token at hand brings; a session is gone whenever the provider restarts.
  const isGone = (answer: CallAnswer) => isOwn && (answer.status === 401 || deadTokenInside(address.api, about.definition.dialect, answer.body));
  return withToken(
    s,
    { grant, address, about },
    {
      send: (to, token) => callApi(s.ports, { address: to, what, about }, token),
      isGone,
      countAgain,
    },
  );
}

function atSession({ url, api }: ApiAddress, token: ApiToken): ApiAddress {
  const opened = inSession(api, token);
  return { api: opened, url: `${opened.base_url.replace(/\/$/, '')}${url.slice(new URL(`${api.base_url.replace(/\/$/, '')}/`).href.length - 1)}` };
}

/** Makes a call with the connection's token, sent as this API wants it; the token is masked should the answer echo it. */
async function callApi(
  ports: Pick<Ports, 'send' | 'clock'>,
  { address, what, about }: { address: ApiAddress; what: ToCall; about: AboutToken },
  token: Secret,
): Promise<CallAnswer> {
  const sentAt = new Date(ports.clock.now()).toISOString();
  const outcome = await sendCall(ports, { address, what, token, deadlineMs: CALL_DEADLINE_MS, limitBytes: SHOWN_BYTES });
  const { url, api } = address;
  const { method } = what;
  const common = { method, url, took_ms: outcome.tookMs, at: sentAt, diagnosis: diagnosisOf(ports, { address, what, about }, outcome, token) };
  if (outcome.kind !== 'answer') return { ...common, status: null, reason: reasonInWords(outcome.reason), content_type: null, body: '', cut: false };
  return {
    ...common,
    status: outcome.status,
    reason: null,
    content_type: outcome.headers['content-type'] ?? null,
    body: pretty(outcome.body.replaceAll(token.reveal(), '[secret]')),
    cut: outcome.cut,
    page: outcome.status >= 200 && outcome.status < 300 && method === 'GET' ? pageNote(api, url, outcome.body, outcome.headers.link) : null,
    headers: Object.entries(outcome.headers).map(([name, value]) => ({ name, value: value.replaceAll(token.reveal(), '[secret]').slice(0, 8_000) })),
    bytes: Buffer.byteLength(outcome.body),
  };
}

const sendCall = (
  ports: Pick<Ports, 'send'>,
  { address: { url, api }, what, token, deadlineMs, limitBytes }: { address: ApiAddress; what: ToCall; token: Secret; deadlineMs: number; limitBytes: number },
): Promise<WireOutcome> =>
  ports.send({
    method: what.method,
    url,
    headers: headersOf(api, what, token.reveal()),
    ...(what.body === undefined ? {} : { body: what.body }),
    deadlineMs,
    limitBytes,
  });

function diagnosisOf(
  ports: Pick<Ports, 'clock'>,
  { address: { url, api }, what: { method }, about }: { address: ApiAddress; what: ToCall; about: AboutToken },
  outcome: WireOutcome,
  token: Secret,
): Diagnosis | null {
  const seen = { ...about, needs: about.needs ?? needsOf(api, method, url), api, claims: shownClaims(token), now: ports.clock.now() };
  if (outcome.kind !== 'answer') return diagnoseCall({ ...seen, status: null, reason: outcome.reason, body: '', challenge: null, retryAfterSeconds: null });
  const waitMs = retryAfter(outcome);
  return diagnoseCall({
    ...seen,
    status: outcome.status,
    reason: null,
    body: outcome.body.slice(0, SHOWN_BYTES).replaceAll(token.reveal(), '[secret]'),
    challenge: outcome.headers['www-authenticate'] ?? null,
    retryAfterSeconds: waitMs === null ? null : Math.ceil(waitMs / 1000),
  });
}

/** One page as it came, for a run. `waitMs`: the quota is used up, and nothing was sent. */
export type Fetched =
  | { kind: 'quota'; waitMs: number }
  | {
      kind: 'page';
      url: string;
      status: number;
      headers: Record<string, string>;
      body: string;
      cut: boolean;
      retryAfterMs: number | null;
      isGood: boolean;
      diagnosis: Diagnosis | null;
    }
  | { kind: 'none'; reason: string; diagnosis: Diagnosis | null };

/**
 * Fetches one page with a grant's token, whole up to `limitBytes`, counted in the provider's quotas. A token that the API rejects is
 * renewed once. @throws {Fault} as a token issuance and an opened session do
 */
export async function fetchPage(
  s: { ports: Pick<Ports, 'send' | 'clock'>; apiTokens: ApiTokens; quotas: Quotas },
  { grant, address, what, about }: { grant: CalledGrant; address: ApiAddress; what: ToCall; about: AboutToken },
  { deadlineMs, limitBytes }: { deadlineMs: number; limitBytes: number },
): Promise<Fetched> {
  const uses = usesOf(s.quotas, grant, address, what.method);
  const waitMs = uses.length === 0 ? null : await s.quotas.take(uses, 0);
  if (waitMs !== null) return { kind: 'quota', waitMs };
  const { dialect } = about.definition;
  const sent = await withToken(
    s,
    { grant, address, about },
    {
      send: async (to, token) => ({ to, token, outcome: await sendCall(s.ports, { address: to, what, token, deadlineMs, limitBytes }) }),
      isGone: ({ outcome }) =>
        outcome.kind === 'answer' && (outcome.status === 401 || (outcome.body.length < SHOWN_BYTES && deadTokenInside(address.api, dialect, outcome.body))),
      countAgain: async () => void (uses.length > 0 && (await s.quotas.take(uses, 0))),
    },
  );
  const { outcome, token, to } = sent;
  if (outcome.kind !== 'answer') return { kind: 'none', reason: outcome.reason, diagnosis: diagnosisOf(s.ports, { address, what, about }, outcome, token) };
  if (uses.length > 0) s.quotas.learn(uses, address.api, { status: outcome.status, header: (header) => outcome.headers[header.toLowerCase()] });
  const good = isGood({ status: outcome.status, body: outcome.body.length < SHOWN_BYTES ? outcome.body : '' }, about.definition);
  return {
    kind: 'page',
    url: to.url,
    status: outcome.status,
    headers: outcome.headers,
    // A provider that echoes the token into a record must not make us keep it.
    body: outcome.body.includes(token.reveal()) ? outcome.body.replaceAll(token.reveal(), '[secret]') : outcome.body,
    cut: outcome.cut,
    retryAfterMs: retryAfter(outcome),
    isGood: good,
    diagnosis: good ? null : diagnosisOf(s.ports, { address, what, about }, outcome, token),
  };
}

/** True for an answer that verifies a capability: a good status, and no error of the dialect's own inside. */
export function isGood(answer: Pick<CallAnswer, 'status' | 'body'>, definition: Pick<ProviderDefinition, 'dialect'>): boolean {
  if (answer.status === null || answer.status < 200 || answer.status >= 300) return false;
  const pointer = definition.dialect.error_at;
  if (pointer === undefined) return true;
  try {
    const error = at(JSON.parse(answer.body), pointer);
    return error === undefined || error === null || error === false || error === '';
  } catch {
    return true; // not JSON: there is no place for an error
  }
}

const pretty = (body: string): string => {
  try {
    return JSON.stringify(JSON.parse(body), null, 2);
  } catch {
    return body; // not JSON: shown as it came
  }
};
