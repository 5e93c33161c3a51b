import { parse } from 'shell-quote';
import { type ApiCall, type Pair, pathAndQuery } from './call.ts';

/** A call read from elsewhere, and what of it was left out, in words. `url` is as it stood there. */
export interface ReadCall {
  url: string;
  call: Omit<ApiCall, 'path' | 'query'>;
  leftOut: string[];
}

/** Options that take a value which does not matter here. */
const VALUED = new Set([
  '-o',
  '--output',
  '-m',
  '--max-time',
  '--connect-timeout',
  '--retry',
  '-w',
  '--write-out',
  '--cacert',
  '--resolve',
  '-c',
  '--cookie-jar',
  '-x',
  '--proxy',
]);
const LETTERS_WITH_VALUE = 'XHduAeboFmwxc';

/** Headers that carry someone's sign-in, and those that a program adds. */
const DROPPED = /^(authorization|cookie|proxy-authorization|host|content-length|connection|accept-encoding|user-agent)$/i;
export const isDroppedHeader = (name: string): boolean => DROPPED.test(name) || name.startsWith(':') || /^sec-/i.test(name);

const MAX_CURL = 100_000;
const parseShell = (text: string): ReturnType<typeof parse> | null => {
  if (text.length > MAX_CURL) return null;
  try {
    return parse(text, (name) => `$${name}`);
  } catch {
    return null; // such as a brace that never closes
  }
};

/** Reads a `curl` line as people paste it; no shell runs, and no file is read. A text: why it cannot be read. */
export function readCurl(text: string): ReadCall | string {
  const joined = text.replace(/\\\r?\n/g, ' ').trim();
  const words: string[] = [];
  const parsed = parseShell(joined);
  if (parsed === null) return 'It is longer than 100,000 characters, or its quotes and braces do not match.';
  for (const word of parsed) {
    if (typeof word === 'string') words.push(word);
    else if ('pattern' in word) words.push(word.pattern);
    else if ('op' in word && word.op !== ';') return `It holds \u201c${word.op}\u201d: paste the curl line alone, without pipes and redirections.`;
  }
  if (words[0] !== 'curl') return 'It does not begin with curl.';
  const headers: Pair[] = [];
  const leftOut: string[] = [];
  const data: string[] = [];
  let [method, url, isGet]: [string | null, string | null, boolean] = [null, null, false];
  const rest = words.slice(1);
  const header = (line: string): void => {
    const empty = /^([^:;]+);$/.exec(line)?.[1]; // how curl writes a header without a value
    const colon = empty === undefined ? line.indexOf(':') : line.length;
    const name = empty ?? line.slice(0, Math.max(0, colon)).trim();
    if (name === '') return;
    if (isDroppedHeader(name)) leftOut.push(`the header ${name}`);
    else headers.push({ name, value: line.slice(colon + 1).trim() });
  };
  while (rest.length > 0) {
    const word = rest.shift() as string;
    if (!word.startsWith('-') || word === '-') {
      url ??= word;
      continue;
    }
    // -XPOST and -X POST, --request=POST and --request POST
    const long = /^(--[a-z-]+)=(.*)$/s.exec(word);
    const short = /^-([A-Za-z])(.+)$/s.exec(word);
    const [option, inline] = long
      ? [long[1], long[2]]
      : short && !word.startsWith('--') && LETTERS_WITH_VALUE.includes(short[1] ?? '')
        ? [`-${short[1]}`, short[2]]
        : [word, undefined];
    const value = (): string => inline ?? rest.shift() ?? '';
    switch (option) {
      case '-X':
      case '--request':
        method = value().toUpperCase();
        break;
      case '-H':
      case '--header':
        header(value());
        break;
      case '--url':
        url = value();
        break;
      case '-d':
      case '--data':
      case '--data-ascii':
      case '--data-binary':
      case '--data-raw':
      case '--json': {
        const given = value();
        if (given.startsWith('@') && option !== '--data-raw') leftOut.push(`the file ${given.slice(1)}: paste its text as the body`);
        else data.push(given);
        if (option === '--json') headers.push({ name: 'content-type', value: 'application/json' });
        break;
      }
      case '--data-urlencode': {
        const [, name = '', given = ''] = /^([^=]*)=?(.*)$/s.exec(value()) ?? [];
        data.push(name === '' ? encodeURIComponent(given) : `${name}=${encodeURIComponent(given)}`);
        break;
      }
      case '-G':
      case '--get':
        isGet = true;
        break;
      case '-I':
      case '--head':
        method = 'HEAD';
        break;
      case '-A':
      case '--user-agent':
        value();
        leftOut.push('the header user-agent');
        break;
      case '-u':
      case '--user':
      case '--oauth2-bearer':
        value();
        leftOut.push('the sign-in');
        break;
      case '-b':
      case '--cookie':
        value();
        leftOut.push('the cookies');
        break;
      case '-F':
      case '--form':
        return 'It sends a form of several parts (-F), which cannot be composed here.';
      default:
        if (VALUED.has(option ?? '')) value();
    }
  }
  if (url === null) return 'It names no address.';
  const joinedData = data.join('&');
  if (isGet && joinedData !== '') url = `${url}${url.includes('?') ? '&' : '?'}${joinedData}`;
  const body = isGet || data.length === 0 ? null : joinedData;
  if (body !== null && !headers.some((one) => one.name.toLowerCase() === 'content-type'))
    headers.push({ name: 'content-type', value: 'application/x-www-form-urlencoded' });
  return { url, call: { method: method ?? (body === null ? 'GET' : 'POST'), headers, body }, leftOut };
}

/**
 * The headers of a call as they are sent: what was composed, and what is added where nothing is said. A curl line names them too, because
 * curl adds others: a body would go out as a form.
 * @param apiHeaders what the API insists on
 */
export function headersSent(call: Pick<ApiCall, 'headers' | 'body'>, apiHeaders: Readonly<Record<string, string>> = {}): Pair[] {
  const has = (name: string) => call.headers.some((one) => one.name.toLowerCase() === name);
  const usual = (name: string) => ({ name, value: Object.entries(apiHeaders).find(([one]) => one.toLowerCase() === name)?.[1] ?? 'application/json' });
  return [...(has('accept') ? [] : [usual('accept')]), ...(call.body === null || has('content-type') ? [] : [usual('content-type')]), ...call.headers];
}

/** The same call as a `curl` line through the relay, where it needs a caller's id and key and no token. */
export function curlLine(call: ApiCall, relayBase: string, apiHeaders: Readonly<Record<string, string>> = {}): string {
  const parts = ['curl', '-sS', '-u', '"$RUSTY_KETTLE_CALLER_ID:$RUSTY_KETTLE_CALLER_KEY"'];
  if (call.method === 'HEAD') parts.push('-I');
  else if (call.method !== (call.body === null ? 'GET' : 'POST')) parts.push('-X', call.method);
  const sent = headersSent(call, apiHeaders);
  // A header without a value is written with a semicolon: with a colon curl would leave it out.
  for (const { name, value } of sent) parts.push('-H', quoted(value === '' ? `${name};` : `${name}: ${value}`));
  if (call.body !== null && call.method !== 'HEAD') parts.push('--data-raw', quoted(call.body));
  parts.push(quoted(`${relayBase}${pathAndQuery(call)}`));
  return parts.join(' ');
}

/** In single quotes, as every POSIX shell reads them; a single quote itself stands outside of them. */
const quoted = (text: string): string => (/^[\w@%+=:,./-]+$/.test(text) ? text : `'${text.replaceAll("'", "'\\''")}'`);
