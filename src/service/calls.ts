import type { CallAnswer } from '../api/common.ts';
import { Fault } from '../core/fault.ts';
import { at } from '../core/oauth/token-answer.ts';
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

/** Reads an address of the provider with the connection's token, sent as this API wants it; it is masked should the answer echo it. */
export async function callApi(
  ports: Pick<Ports, 'send' | 'clock'>,
  { url, api }: ApiAddress,
  token: Secret,
  method: 'GET' | 'HEAD' = 'GET',
): Promise<CallAnswer> {
  const sentAt = new Date(ports.clock.now()).toISOString();
  const outcome: WireOutcome = await ports.send({
    method,
    url,
    headers: callHeaders(api, token.reveal()),
    deadlineMs: CALL_DEADLINE_MS,
    limitBytes: SHOWN_BYTES,
  });
  const common = { method, url, took_ms: outcome.tookMs, at: sentAt };
  if (outcome.kind !== 'answer') return { ...common, status: null, reason: reasonInWords(outcome.reason), content_type: null, body: '', cut: false };
  return {
    ...common,
    status: outcome.status,
    reason: null,
    content_type: outcome.headers['content-type'] ?? null,
    body: pretty(outcome.body.replaceAll(token.reveal(), '[secret]')),
    cut: outcome.cut,
  };
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
