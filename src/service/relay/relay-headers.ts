import type { Api } from '../../core/provider/api.ts';
import { parseUrl } from '../../core/url.ts';

/** RFC 9110 §7.6.1: these speak of one connection and are never sent on. */
const HOP_BY_HOP = [
  'connection',
  'keep-alive',
  'proxy-authenticate',
  'proxy-authorization',
  'proxy-connection',
  'te',
  'trailer',
  'transfer-encoding',
  'upgrade',
];
/** What a caller says to us, or what only the sender of a request may say. */
const NOT_SENT_ON = new Set([
  ...HOP_BY_HOP,
  'host',
  'authorization',
  'cookie',
  'expect',
  'content-length',
  'forwarded',
  'via',
  'x-forwarded-for',
  'x-forwarded-host',
  'x-forwarded-proto',
  'x-forwarded-port',
  'x-real-ip',
  'origin',
  'referer',
]);
/** An answer's headers that would act on our own origin in a browser. */
const NOT_PASSED_BACK = new Set([
  ...HOP_BY_HOP,
  'set-cookie',
  'set-cookie2',
  'clear-site-data',
  'service-worker-allowed',
  'strict-transport-security',
  'content-security-policy',
  'content-security-policy-report-only',
  'alt-svc',
  'nel',
  'report-to',
  'reporting-endpoints',
  'refresh',
  'accept-ch',
  'critical-ch',
  'origin-agent-cluster',
  'speculation-rules',
]);
const PASSED_BACK_WITH = ['content-security-policy', 'sandbox', 'x-content-type-options', 'nosniff'];

/**
 * The caller's headers as they go to the API: those of the connection between us are left out, the token is placed, and the API's own are
 * put in where the caller says nothing of its own.
 */
export function headersOut(raw: readonly string[], api: Api, token: string, contentLength: string | undefined): string[] {
  const out: string[] = [];
  const seen = new Set<string>();
  const named = connectionNames(raw);
  const own = api.token_header.toLowerCase();
  const wanted = wantedNames(api.headers);
  for (let at = 0; at + 1 < raw.length; at += 2) {
    const name = (raw[at] as string).toLowerCase();
    const value = raw[at + 1] as string;
    // With an underscore a name may be read as another one, of ours or of a proxy's (CGI makes no difference).
    if (NOT_SENT_ON.has(name) || name === own || named?.has(name) || name.startsWith('sec-') || name.includes('_')) continue;
    // The API insists on a value of its own, and the caller only has what its program sends on its own.
    if (wanted?.has(name) && (name === 'user-agent' || ANY.test(value))) continue;
    seen.add(name);
    out.push(name, value);
  }
  for (const name in api.headers) if (!seen.has(name.toLowerCase())) out.push(name, api.headers[name] as string);
  if (!seen.has('user-agent') && !wanted?.has('user-agent')) out.push('user-agent', 'rusty-kettle');
  if (contentLength !== undefined) out.push('content-length', contentLength);
  out.push(api.token_header, api.token_word === '' ? token : `${api.token_word} ${token}`);
  return out;
}

const ANY = /^\*(\/\*)?$/;
const wantedOf = new WeakMap<Api['headers'], Set<string> | null>();
/** Names of the API's own headers, in lower case; null: it has none. Worked out once for each API. */
function wantedNames(headers: Api['headers']): Set<string> | null {
  let names = wantedOf.get(headers);
  if (names === undefined) {
    const all = Object.keys(headers).map((name) => name.toLowerCase());
    names = all.length > 0 ? new Set(all) : null;
    wantedOf.set(headers, names);
  }
  return names;
}

/** Header names that `Connection` lists: they too speak of one connection only. */
function connectionNames(raw: readonly string[]): Set<string> | null {
  let names: Set<string> | null = null;
  for (let at = 0; at + 1 < raw.length; at += 2) {
    const name = raw[at] as string;
    if (name.length !== 10 || name.toLowerCase() !== 'connection') continue;
    const value = (raw[at + 1] as string).toLowerCase();
    if (value === 'keep-alive' || value === 'close') continue;
    names ??= new Set();
    for (const one of value.split(',')) names.add(one.trim());
  }
  return names;
}

export interface BackFrom {
  token: string;
  /** The address that was called, and the base URL and relay address that stand for each other. */
  url: string;
  base: string;
  relayBase: string;
}

/** The API's headers as they go back to the caller: the token is masked where it recurs, redirects stay within the relay. */
export function headersBack(headers: Record<string, string | string[] | undefined>, from: BackFrom): string[] {
  const back: string[] = [...PASSED_BACK_WITH];
  const named = headers.connection === undefined ? null : connectionNames(['connection', String(headers.connection)]);
  for (const name in headers) {
    const lower = name.toLowerCase();
    if (NOT_PASSED_BACK.has(lower) || lower === 'x-content-type-options' || lower.startsWith('access-control-') || named?.has(lower)) continue;
    const value = headers[name];
    if (value === undefined) continue;
    for (const one of typeof value === 'string' ? [value] : value) {
      const masked = one.includes(from.token) ? one.replaceAll(from.token, '[secret]') : one;
      if (lower === 'location' || lower === 'content-location') back.push(...redirect(lower, masked, from));
      else if (lower === 'link') back.push(...links(masked, from));
      else back.push(name, masked.includes('://') ? withinRelay(masked, from) : masked);
    }
  }
  return back;
}

/**
 * A redirect below the base URL leads to the relay again. One to another host is not followed, and not given under its own name: tools
 * that follow it would send our caller's key there. The address stands in another header, for whoever means to.
 */
function redirect(name: string, value: string, from: BackFrom): string[] {
  const target = relayed(value, from);
  if (target !== null) return [name, target];
  return name === 'location' ? ['location-elsewhere', value] : [];
}

/** The relay's address for a target below the API's base URL, or null. Relative ones count from the address that was called. */
function relayed(target: string, from: BackFrom): string | null {
  const href = URL.canParse(target, from.url) ? new URL(target, from.url).href : null;
  const base = parseUrl(`${from.base}/`)?.href;
  return href !== null && base !== undefined && href.startsWith(base) ? `${from.relayBase}/${href.slice(base.length)}` : null;
}

const MAX_LINK = 16_000;
/**
 * `Link` (RFC 8288 §3): targets below the base URL lead to the relay, where the caller's key belongs. Others stand in another header, so that
 * no client follows them with that key.
 */
function links(value: string, from: BackFrom): string[] {
  if (value.length > MAX_LINK) return ['link-elsewhere', value.slice(0, MAX_LINK)];
  const [within, elsewhere]: [string[], string[]] = [[], []];
  // A target stands between < and >, and holds neither; what follows up to the next target is its parameters.
  for (const [, target = '', parameters = ''] of value.matchAll(/<([^<>]*)>([^<]*)/g)) {
    const rest = parameters.replace(/[\s,]+$/, '');
    const at = relayed(target.trim(), from);
    if (at === null) elsewhere.push(`<${target}>${rest}`);
    else within.push(`<${at}>${rest}`);
  }
  return [...(within.length > 0 ? ['link', within.join(', ')] : []), ...(elsewhere.length > 0 ? ['link-elsewhere', elsewhere.join(', ')] : [])];
}

/** Any other header: the base URL, where it stands in it, becomes the relay's. */
function withinRelay(value: string, from: BackFrom): string {
  const parts = value.split(from.base);
  return parts.reduce((text, part) => `${text}${/^([/?#"';,\s>]|$)/.test(part) ? from.relayBase : from.base}${part}`);
}
