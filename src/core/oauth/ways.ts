import type { ProviderDefinition } from '../provider/definition.ts';
import { isLoopbackHost } from '../provider/web-address.ts';
import { parseUrl } from '../url.ts';
import { type GrantType, isClientsOwn, type Way, WIRE_GRANT_TYPES } from './grant-kinds.ts';

/** True where a code can be entered on another device (RFC 8628). */
export const takesDevice = ({ server }: Pick<ProviderDefinition, 'server'>): boolean =>
  server.device_authorization_endpoint !== undefined && server.grant_types_supported.includes(WIRE_GRANT_TYPES.device_code);

/** The ways open to a connection, the usual one first. Empty: only a key or a refresh token can be entered. */
export function waysOf(definition: ProviderDefinition, client: { type: string; redirectUri: string }, grantType: GrantType, publicUrl: string): Way[] {
  if (isClientsOwn(grantType)) return ['by_itself'];
  if (client.type === 'printed_code') return ['printed'];
  const ways: Way[] = [];
  if (definition.server.authorization_endpoint) {
    const ours = client.redirectUri.startsWith(`${publicUrl}/`);
    const host = parseUrl(client.redirectUri)?.hostname ?? '';
    if (ours) ways.push('redirect');
    else if (isLoopbackHost(host)) ways.push('loopback');
    ways.push('pasted');
  }
  if (takesDevice(definition)) ways.push('device');
  return ways;
}

const FIRST_PORT = 20_000;
const PORTS = 10_000;

/** A port for the redirect URI of a desktop client, always the same for one client: one digit of a name changes it. */
export function loopbackPort(provider: string, client: string): number {
  let sum = 0;
  for (const letter of `${provider}/${client}`) sum = (sum * 31 + (letter.codePointAt(0) ?? 0)) % PORTS;
  return FIRST_PORT + sum;
}

/** True for a redirect URI that is the registered one but for its port, where both are on loopback (RFC 8252 §7.3). */
export function sameButPort(registered: string, used: string): boolean {
  const [one, other] = [parseUrl(registered), parseUrl(used)];
  if (!one || !other || !isLoopbackHost(one.hostname)) return registered === used;
  return (
    one.protocol === other.protocol && one.hostname === other.hostname && one.pathname === other.pathname && one.search === other.search && other.hash === ''
  );
}

/** What someone pasted: the whole address at which the browser stopped, or a bare code. White space is taken out and said. */
export function readPasted(text: string): { query: Record<string, string>; whole: boolean; spaced: boolean } | null {
  const trimmed = text.trim();
  const bare = trimmed.replace(/\s+/g, '');
  const spaced = bare !== trimmed || trimmed !== text;
  if (bare === '') return null;
  const url = /^[a-z]+:\/\//i.test(bare)
    ? parseUrl(bare)
    : bare.includes('code=') || bare.includes('error=')
      ? parseUrl(`http://localhost/?${bare.replace(/^[^?]*\?/, '')}`)
      : null;
  if (url) {
    const query = Object.fromEntries(url.searchParams);
    return query.code !== undefined || query.error !== undefined ? { query, whole: true, spaced } : null;
  }
  return bare.length <= 4096 && /^[\x21-\x7e]+$/.test(bare) ? { query: { code: bare }, whole: false, spaced } : null;
}
