import { own } from '../json.ts';
import { isSecretName } from './secret-names.ts';

/** One call to a provider's API, as a person composes it or a file brings it. */
export interface ApiCall {
  method: string;
  /** Below the base URL, or a whole address below one; a query may stand in it. */
  path: string;
  query: Pair[];
  headers: Pair[];
  body: string | null;
}
export interface Pair {
  name: string;
  value: string;
}
/** What is filled in when a saved call is made; `value` null: requested each time. */
export interface CallParameter {
  name: string;
  says: string;
  value: string | null;
}

const READS = ['GET', 'HEAD', 'OPTIONS'];
/** True for a method that by its meaning changes nothing (RFC 9110 §9.2.1). */
export const isRead = (method: string): boolean => READS.includes(method.toUpperCase());

const NAMED = /\{([A-Za-z][A-Za-z0-9_.-]{0,39})\}/g;

/** The names in braces of a call, each once, in the order in which they come. */
export function namesIn(call: ApiCall): string[] {
  const texts = [call.path, ...call.query.map((one) => one.value), ...call.headers.map((one) => one.value), call.body ?? ''];
  return [...new Set(texts.flatMap((text) => [...text.matchAll(NAMED)].map((match) => match[1] as string)))];
}

/**
 * The call with its parameters filled in. Only names that are known are replaced: braces of a body that mean something else stay. In the
 * path a value is encoded, so that it stays one segment; in a JSON body it is escaped, so that it stays one text.
 * @returns the names of parameters for which no value came, in `lacking`.
 */
export function fillCall(call: ApiCall, parameters: readonly CallParameter[], values: Readonly<Record<string, string>>): { call: ApiCall; lacking: string[] } {
  const known = new Map<string, string | null>(Object.entries(values));
  for (const one of parameters) known.set(one.name, own(values, one.name) ?? one.value);
  const lacking = new Set<string>();
  const fill = (text: string, encode: (value: string) => string): string =>
    text.replace(NAMED, (whole, name: string) => {
      if (!known.has(name)) return whole;
      const value = known.get(name) ?? null;
      if (value === null) lacking.add(name);
      return value === null ? whole : encode(value);
    });
  const plain = (value: string) => value;
  const filled = {
    ...call,
    path: fill(call.path, encodeURIComponent),
    query: call.query.map((one) => ({ name: one.name, value: fill(one.value, plain) })),
    headers: call.headers.map((one) => ({ name: one.name, value: fill(one.value, plain) })),
    body: call.body === null ? null : fill(call.body, (value) => JSON.stringify(value).slice(1, -1)),
  };
  return { call: filled, lacking: [...lacking] };
}

/** Path and query in one: what was composed beside the path is added to what stands in it. */
export function pathAndQuery(call: Pick<ApiCall, 'path' | 'query'>): string {
  if (call.query.length === 0) return call.path;
  const added = new URLSearchParams(call.query.map((one) => [one.name, one.value] as [string, string])).toString();
  return `${call.path}${call.path.includes('?') ? '&' : '?'}${added}`;
}

/** A call without the headers and parameters that are named like a key; a query in the path is looked through too. */
export function withoutOwnKeys<C extends Pick<ApiCall, 'path' | 'query' | 'headers'>>(call: C): C {
  const [path = '', inPath] = call.path.split(/\?(.*)/s);
  const kept = inPath?.split('&').filter((pair) => !isSecretName(pair.split('=')[0] ?? ''));
  const plain = (pairs: Pair[]): Pair[] => pairs.filter(({ name }) => !isSecretName(name));
  return { ...call, path: kept?.length ? `${path}?${kept.join('&')}` : path, query: plain(call.query), headers: plain(call.headers) };
}

/** Header names that the sender of a request decides, never who composes it: connection, framing, and who is asked. */
const NOT_COMPOSED = new Set([
  'host',
  'connection',
  'content-length',
  'transfer-encoding',
  'te',
  'trailer',
  'upgrade',
  'expect',
  'keep-alive',
  'cookie',
  'authorization',
  'proxy-authorization',
  'proxy-connection',
]);

/** Why a header cannot be composed, in words, or null. `carrier`: the header in which the API wants the token. */
export function whyNoHeader(name: string, value: string, carrier: string): string | null {
  if (!/^[A-Za-z0-9!#$%&'*+.^_`|~-]+$/.test(name)) return 'This is no name of a header.';
  if (/[^\x20-\x7e\x80-\xff\t]/.test(value)) return 'Its value holds a line break or another character that no header may hold.';
  const lower = name.toLowerCase();
  if (lower === carrier.toLowerCase()) return 'The token is added automatically.';
  return NOT_COMPOSED.has(lower) ? 'This header is made by whoever sends the request.' : null;
}
