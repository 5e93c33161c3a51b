import type { CallAnswer } from '../api/common.ts';
import { Fault } from '../core/fault.ts';
import { reasonInWords, type WireOutcome } from '../core/oauth/wire.ts';
import type { ProviderDefinition } from '../core/provider/definition.ts';
import type { Secret } from '../core/secret.ts';
import type { Ports } from './ports.ts';

const CALL_DEADLINE_MS = 20_000;
const SHOWN_BYTES = 64 * 1024;

/** Ways of writing a path that different programs read differently: refused, never tidied. */
const AMBIGUOUS_PATH = /(^|\/)\.{1,2}(\/|$|\?)|%2e|%2f|%5c|\\|\/\/|#/i;

/**
 * The address of a call: a path below the first API's base URL, or a whole address below any base URL of the definition.
 * The token goes nowhere else. @throws {Fault} HOST_NOT_LISTED
 */
export function apiAddress(definition: ProviderDefinition, path: string): string {
  const bases = definition.apis.map((api) => api.base_url.replace(/\/$/, ''));
  const listed = `Listed: ${bases.join(', ')}.`;
  const whole = URL.canParse(path) ? path : null;
  const rest = whole === null ? path : bases.map((base) => (whole.startsWith(`${base}/`) ? whole.slice(base.length) : null)).find((one) => one !== null);
  if (rest === undefined || rest === null) throw new Fault('HOST_NOT_LISTED', { detail: listed });
  if (!rest.startsWith('/') || AMBIGUOUS_PATH.test(rest.split('?', 1)[0] ?? '') || /[\s#]/.test(rest))
    throw new Fault('HOST_NOT_LISTED', { detail: 'A path starts with one / and holds no .., no //, no encoded slash or dot, no space and no #.' });
  const base = whole === null ? bases[0] : bases.find((one) => whole.startsWith(`${one}/`));
  const url = new URL(`${base}${rest}`);
  if (!url.href.startsWith(`${new URL(`${base}/`).href}`)) throw new Fault('HOST_NOT_LISTED', { detail: listed });
  return url.href;
}

/** GETs an address of the provider with the connection's token (RFC 6750 §2.1); the token is masked should the answer echo it. */
export async function callApi(ports: Pick<Ports, 'send' | 'clock'>, url: string, token: Secret): Promise<CallAnswer> {
  const at = new Date(ports.clock.now()).toISOString();
  const outcome: WireOutcome = await ports.send({
    method: 'GET',
    url,
    headers: { authorization: `Bearer ${token.reveal()}`, accept: 'application/json' },
    deadlineMs: CALL_DEADLINE_MS,
    limitBytes: SHOWN_BYTES,
  });
  if (outcome.kind !== 'answer')
    return { method: 'GET', url, status: null, reason: reasonInWords(outcome.reason), content_type: null, body: '', cut: false, took_ms: outcome.tookMs, at };
  return {
    method: 'GET',
    url,
    status: outcome.status,
    reason: null,
    content_type: outcome.headers['content-type'] ?? null,
    body: pretty(outcome.body.replaceAll(token.reveal(), '[secret]')),
    cut: outcome.cut,
    took_ms: outcome.tookMs,
    at,
  };
}

const pretty = (body: string): string => {
  try {
    return JSON.stringify(JSON.parse(body), null, 2);
  } catch {
    return body; // not JSON: shown as it came
  }
};
