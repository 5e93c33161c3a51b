import { decodeJwt } from 'jose';
import type { Secret } from '../secret.ts';

/** What may be shown of a JWT access token (RFC 9068 §2.2): its claims, never the token. Instants are ISO texts. */
export type ShownClaims = Record<string, string>;

const PLAIN = ['iss', 'sub', 'aud', 'client_id', 'azp', 'appid', 'scope', 'scp', 'roles', 'role', 'groups', 'tid', 'tenant', 'org', 'ver', 'typ'];
const TIMES = ['iat', 'nbf', 'exp', 'auth_time'];
const MOST = 300;

/** The claims of an access token that is a JWT, or null. Other members are named, not shown. */
export function shownClaims(access: Secret): ShownClaims | null {
  const text = access.reveal();
  if (!/^[\w-]+\.[\w-]+\.[\w-]*$/.test(text)) return null;
  try {
    const claims = decodeJwt(text);
    const shown: ShownClaims = {};
    for (const name of PLAIN) {
      const value = claims[name];
      if (typeof value === 'string' || typeof value === 'number') shown[name] = String(value).slice(0, MOST);
      else if (Array.isArray(value)) shown[name] = value.map(String).join(' ').slice(0, MOST);
    }
    for (const name of TIMES) if (typeof claims[name] === 'number') shown[name] = new Date((claims[name] as number) * 1000).toISOString();
    const others = Object.keys(claims).filter((name) => !PLAIN.includes(name) && !TIMES.includes(name));
    if (others.length > 0)
      shown['(others)'] = others
        .map((name) => name.slice(0, 40))
        .join(' ')
        .slice(0, MOST);
    return shown;
  } catch {
    return null; // it only looks like one
  }
}
