import type { ApiCall, CallParameter, Pair } from './call.ts';
import { isSecretName } from './secret-names.ts';

/**
 * Values that may be secrets, by their name or by their looks: in calls that people compose, in fixed parameters, and in addresses to which
 * results and messages are posted. They are masked for viewers, left out of bundles, and never beside a bundle's own value in a comparison.
 */
/** Nothing that people choose: long, without blanks, letters and digits mixed. Names in braces are filled in later. */
const LONG = 20;
const looksSecret = (value: string): boolean =>
  value.length >= LONG && /^[A-Za-z0-9+/_=.~:-]+$/.test(value) && /\d/.test(value) && /[A-Za-z]/.test(value) && !/^\d{4}-\d\d-\d\d|^https?:/.test(value);
const maySecret = (name: string, value: string): boolean => value !== '' && !/^\{[^{}]+\}$/.test(value) && (isSecretName(name) || looksSecret(value));

const maskedPairs = (pairs: readonly Pair[], mark: string): Pair[] => pairs.map((pair) => (maySecret(pair.name, pair.value) ? { ...pair, value: mark } : pair));

/** A query, and what stands before an `@` in an address. */
function maskedPath(path: string, mark: string): string {
  const [before = '', query] = path.split(/\?(.*)/s);
  const shown = query?.split('&').map((pair) => {
    const [name = '', value] = pair.split(/=(.*)/s);
    return value !== undefined && maySecret(decoded(name), decoded(value)) ? `${name}=${mark}` : pair;
  });
  const plain = before.replace(/^([a-z]+:\/\/)[^/@]+@/i, `$1${mark}@`);
  return shown ? `${plain}?${shown.join('&')}` : plain;
}
const decoded = (text: string): string => {
  try {
    return decodeURIComponent(text.replaceAll('+', ' '));
  } catch {
    return text;
  }
};

/** Members of JSON and XML, fields of forms and of plain lines: whatever has a name before its value. */
const BODY_VALUE =
  /(?<open>["']?)(?<name>[A-Za-z][\w.-]{0,60})\k<open>(?<gap>\s{0,20}[:=]\s{0,20})(?<value>"(?:[^"\\]|\\.)*"|'[^']*'|[^\s&,;{}<>"']+)|(?<tag><(?<element>[A-Za-z][\w.-]{0,60})(?:\s[^<>]{0,500})?>)(?<inner>[^<]+)(?=<)/g;
type Found = Partial<Record<'open' | 'name' | 'gap' | 'value' | 'tag' | 'element' | 'inner', string>>;
const maskedBody = (body: string, mark: string): string =>
  body.replace(BODY_VALUE, (whole: string, ...rest: unknown[]) => {
    const { open = '', name = '', gap = '', value = '', tag, element = '', inner = '' } = rest.at(-1) as Found;
    if (tag !== undefined) return maySecret(element, inner.trim()) ? `${tag}${mark}` : whole;
    const isQuoted = /^["']/.test(value);
    const bare = isQuoted ? value.slice(1, -1) : value;
    if (!maySecret(name, bare) || (!isQuoted && /^(true|false|null)$/.test(bare))) return whole;
    return `${open}${name}${open}${gap}${isQuoted ? `${value[0]}${mark}${value[0]}` : mark}`;
  });

/** A call with `mark` in place of each value that may be a secret. */
export const maskedCall = <C extends Pick<ApiCall, 'path' | 'query' | 'headers'> & { body?: string | null }>(call: C, mark: string): C => ({
  ...call,
  path: maskedPath(call.path, mark),
  query: maskedPairs(call.query, mark),
  headers: maskedPairs(call.headers, mark),
  ...(typeof call.body === 'string' ? { body: maskedBody(call.body, mark) } : {}),
});

/** Fixed parameters: by their own name, and by the names of what they are filled into. */
export function maskedParameters(parameters: readonly CallParameter[], call: Pick<ApiCall, 'query' | 'headers'> | null, mark: string): CallParameter[] {
  const carriers = call ? [...call.query, ...call.headers].filter((pair) => isSecretName(pair.name)).map((pair) => pair.value) : [];
  const isCarried = (name: string) => carriers.some((value) => value.includes(`{${name}}`));
  return parameters.map((one) => (one.value !== null && (maySecret(one.name, one.value) || isCarried(one.name)) ? { ...one, value: mark } : one));
}

export const maskedValues = (values: Readonly<Record<string, string>>, mark: string): Record<string, string> =>
  Object.fromEntries(Object.entries(values).map(([name, value]) => [name, maySecret(name, value) ? mark : value]));

/** An address to which something is posted: whatever comes behind its host may be the key to it. */
export function maskedAddress(text: string, mark: string): string {
  if (!URL.canParse(text)) return mark;
  const { protocol, host, pathname, search, username, password } = new URL(text);
  return pathname === '/' && search === '' && username === '' && password === '' ? text : `${protocol}//${host}/${mark}`;
}

type Maskable = Pick<ApiCall, 'path' | 'query' | 'headers'> & { body?: string | null };
export interface MaskableSaved {
  call: Maskable;
  parameters: CallParameter[];
}
export interface MaskableSettings {
  call?: Maskable | undefined;
  values?: Record<string, string> | undefined;
  deliver: { kind: string; url?: string }[];
}

/** A call that is saved, with its fixed parameters. */
export const maskedSaved = <S extends MaskableSaved>(saved: S, mark: string): S => ({
  ...saved,
  call: maskedCall(saved.call, mark),
  parameters: maskedParameters(saved.parameters, saved.call, mark),
});

/** The settings of a job, and the plan of a run: a call, what is filled in, and addresses. */
export const maskedSettings = <S extends MaskableSettings>(settings: S, mark: string): S => ({
  ...settings,
  ...(settings.call ? { call: maskedCall(settings.call, mark) } : {}),
  ...(settings.values ? { values: maskedValues(settings.values, mark) } : {}),
  deliver: settings.deliver.map((target) => (target.url === undefined ? target : { ...target, url: maskedAddress(target.url, mark) })),
});
