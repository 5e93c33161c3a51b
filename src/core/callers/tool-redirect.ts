import { parseUrl } from '../url.ts';

/** Why a tool's redirect URI cannot be taken, in words, or null (RFC 9700 §2.1, RFC 8252 §7). */
export function whyNoToolRedirect(uri: string): string | null {
  const url = parseUrl(uri);
  if (!url || /[\s"<>\\^`{|}*]/.test(uri)) return 'It is no address. Copy it from the tool, character by character; no wildcards.';
  if (url.hash !== '' || uri.includes('#')) return 'A redirect URI holds no # part (RFC 6749 §3.1.2).';
  if (url.username !== '' || url.password !== '') return 'It holds a name or password.';
  if (url.protocol === 'https:') return null;
  if (url.protocol === 'http:')
    return isLoopback(url.hostname) ? null : 'Plain http is taken on the own machine only (127.0.0.1, [::1] or localhost): the code would travel in the open.';
  // RFC 8252 §7.1: a private-use scheme is a reversed domain name, so that no two programs share it by chance.
  return /^[a-z][a-z0-9+-]*(\.[a-z0-9+-]+)+:$/.test(url.protocol)
    ? null
    : 'A scheme of a program\u2019s own looks like org.example.tool:/done (RFC 8252 §7.1).';
}

const isLoopback = (host: string): boolean => host === '127.0.0.1' || host === '[::1]' || host === 'localhost';

/** Compared character by character; on a loopback address any port fits (RFC 8252 §7.3), since the tool takes a free one. */
export function isRegisteredRedirect(registered: readonly string[], given: string): boolean {
  if (registered.includes(given)) return true;
  const url = parseUrl(given);
  if (url?.protocol !== 'http:' || (url.hostname !== '127.0.0.1' && url.hostname !== '[::1]')) return false;
  const bare = withoutPort(given);
  return registered.some((one) => one.startsWith(`http://${url.hostname}`) && withoutPort(one) === bare);
}

const withoutPort = (uri: string): string => uri.replace(/^(http:\/\/(?:127\.0\.0\.1|\[::1\])):\d{1,5}(?=[/?]|$)/, '$1');
