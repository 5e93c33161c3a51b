import { lookup as resolve } from 'node:dns';
import { isIP, type LookupFunction } from 'node:net';
import { isPrivateAddress } from './address.ts';

export class AddressForbidden extends Error {
  readonly code = 'ADDRESS_FORBIDDEN';
}

/** `*.localhost` is loopback (RFC 6761 §6.3), which Node.js does not resolve. */
const isLocalhostName = (host: string): boolean => host === 'localhost' || host.endsWith('.localhost');

/**
 * Name resolution for outgoing calls. Private addresses are rejected after resolution, so that no name can lead inside,
 * unless the host is one of `allowed` (exact names, or `*.suffix`).
 */
export function outgoingLookup(allowed: readonly string[]): LookupFunction {
  return (hostname, options, callback) => {
    const mayBePrivate = isAllowed(hostname, allowed);
    const answer = (error: NodeJS.ErrnoException | null, addresses: { address: string; family: number }[]) => {
      if (error) return callback(error, '', 0);
      const good = addresses.filter((one) => mayBePrivate || !isPrivateAddress(one.address));
      const [first] = good;
      if (!first) return callback(new AddressForbidden('private address'), '', 0);
      return options.all ? callback(null, good) : callback(null, first.address, first.family);
    };
    if (isLocalhostName(hostname)) return answer(null, [{ address: '127.0.0.1', family: 4 }]);
    return resolve(hostname, { all: true }, answer);
  };
}

/**
 * Judges the socket itself, once it is connected and before anything is sent: whatever was resolved, this is where the bytes would go.
 * @param hostname as the address names it
 */
export const isForbiddenSocket = (hostname: string, remoteAddress: string | undefined, allowed: readonly string[]): boolean =>
  !isAllowed(hostname, allowed) && (remoteAddress === undefined || isPrivateAddress(remoteAddress));

/** True for a host that may be called: a private address written out only where it is configured. Names are judged when they are resolved. */
export function mayBeCalled(hostname: string, allowed: readonly string[]): boolean {
  const host = hostname.startsWith('[') ? hostname.slice(1, -1) : hostname;
  return isIP(host) === 0 || isAllowed(host, allowed) || !isPrivateAddress(host);
}

export const isAllowed = (hostname: string, allowed: readonly string[]): boolean =>
  allowed.some((one) => one === hostname || (one.startsWith('*.') && hostname.endsWith(one.slice(1))));
