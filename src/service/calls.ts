import type { CallAnswer } from '../api/common.ts';
import { type CallSeen, diagnoseCall } from '../core/diagnosis/call.ts';
import { shownClaims } from '../core/diagnosis/claims.ts';
import { Fault } from '../core/fault.ts';
import { at, retryAfter } from '../core/oauth/token-answer.ts';
import { reasonInWords, type WireOutcome } from '../core/oauth/wire.ts';
import { type Api, callHeaders } from '../core/provider/api.ts';
import type { ProviderDefinition } from '../core/provider/definition.ts';
import type { Secret } from '../core/secret.ts';
import type { Ports } from './ports.ts';

const CALL_DEADLINE_MS = 20_000;
const SHOWN_BYTES = 64 * 1024;

/** Ways of writing a path that different programs read differently: refused, never tidied. */
const AMBIGUOUS_PATH = /(^|\/)\.{1,2}(\/|$|\?)|%2e|%2f|%5c|\\|\/\/|#/i;

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
  if (!rest.startsWith('/') || AMBIGUOUS_PATH.test(rest.split('?', 1)[0] ?? '') || /[\s#]/.test(rest))
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

/** Makes a call with the connection's token, sent as this API wants it; the token is masked should the answer echo it. */
export async function callApi(
  ports: Pick<Ports, 'send' | 'clock'>,
  { url, api }: ApiAddress,
  token: Secret,
  what: { method: string; body?: string | undefined },
  about: AboutToken,
): Promise<CallAnswer> {
  const { method } = what;
  const sentAt = new Date(ports.clock.now()).toISOString();
  const outcome: WireOutcome = await ports.send({
    method,
    url,
    headers: { ...callHeaders(api, token.reveal()), ...(what.body === undefined ? {} : { 'content-type': 'application/json' }) },
    ...(what.body === undefined ? {} : { body: what.body }),
    deadlineMs: CALL_DEADLINE_MS,
    limitBytes: SHOWN_BYTES,
  });
  const common = { method, url, took_ms: outcome.tookMs, at: sentAt };
  const seen = { ...about, needs: about.needs ?? needsOf(api, method, url), api, claims: shownClaims(token), now: ports.clock.now() };
  if (outcome.kind !== 'answer')
    return {
      ...common,
      status: null,
      reason: reasonInWords(outcome.reason),
      content_type: null,
      body: '',
      cut: false,
      diagnosis: diagnoseCall({ ...seen, status: null, reason: outcome.reason, body: '', challenge: null, retryAfterSeconds: null }),
    };
  const waitMs = retryAfter(outcome);
  return {
    ...common,
    status: outcome.status,
    reason: null,
    content_type: outcome.headers['content-type'] ?? null,
    body: pretty(outcome.body.replaceAll(token.reveal(), '[secret]')),
    cut: outcome.cut,
    diagnosis: diagnoseCall({
      ...seen,
      status: outcome.status,
      reason: null,
      body: outcome.body.replaceAll(token.reveal(), '[secret]'),
      challenge: outcome.headers['www-authenticate'] ?? null,
      retryAfterSeconds: waitMs === null ? null : Math.ceil(waitMs / 1000),
    }),
  };
}

/** The scopes of which one is needed for a call, where the definition knows its operation. */
function needsOf(api: Api, method: string, url: string): readonly string[] {
  const path = url.slice(api.base_url.replace(/\/$/, '').length).split('?')[0] ?? '';
  const fits = (pattern: string) => new RegExp(`^${pattern.replace(/[.*+?^$()|[\]\\]/g, '\\$&').replace(/\{\w+\}/g, '[^/]+')}$`).test(path);
  const operation = api.operations.find((one) => one.method === method && fits(one.path));
  return operation?.needs.flat() ?? api.probes.find((one) => one.method === method && one.path.split('?')[0] === path)?.needs ?? [];
}

/** True for an answer that proves an ability: a good status, and no error of the dialect's own inside. */
export function isGood(answer: CallAnswer, definition: Pick<ProviderDefinition, 'dialect'>): boolean {
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
