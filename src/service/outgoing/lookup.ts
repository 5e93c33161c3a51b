import { lookup as resolve } from 'node:dns';
import { BlockList, isIP, type LookupFunction } from 'node:net';

const PRIVATE = new BlockList();
for (const [net, bits] of [
  ['10.0.0.0', 8],
  ['172.16.0.0', 12],
  ['192.168.0.0', 16],
  ['169.254.0.0', 16],
  ['127.0.0.0', 8],
  ['100.64.0.0', 10],
  ['0.0.0.0', 8],
  ['224.0.0.0', 3],
] as const)
  PRIVATE.addSubnet(net, bits, 'ipv4');
for (const [net, bits] of [
  ['fc00::', 7],
  ['fe80::', 10],
  ['::1', 128],
  ['::', 128],
  ['ff00::', 8],
  ['64:ff9b::', 96],
] as const)
  PRIVATE.addSubnet(net, bits, 'ipv6');

/** True for loopback, private, link-local, shared and multicast addresses, also when mapped into IPv6. */
export function isPrivateAddress(address: string): boolean {
  const mapped = /^::ffff:(\d+\.\d+\.\d+\.\d+)$/i.exec(address)?.[1];
  if (/^::ffff:/i.test(address) && !mapped) return true;
  const plain = mapped ?? address;
  return PRIVATE.check(plain, isIP(plain) === 6 ? 'ipv6' : 'ipv4');
}

export class AddressForbidden extends Error {
  readonly code = 'ADDRESS_FORBIDDEN';
}

/** `*.localhost` is loopback (RFC 6761 §6.3), which Node.js does not know by itself. */
const isLocalhostName = (host: string): boolean => host === 'localhost' || host.endsWith('.localhost');

/**
 * Name resolution for outgoing calls. Private addresses are refused after resolution, so that no name can lead inside,
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

/** True for a host that may be called: a private address written out only where it is configured. Names are judged when they are resolved. */
export function mayBeCalled(hostname: string, allowed: readonly string[]): boolean {
  const host = hostname.replace(/^\[|\]$/g, '');
  return isIP(host) === 0 || !isPrivateAddress(host) || isAllowed(host, allowed);
}

export const isAllowed = (hostname: string, allowed: readonly string[]): boolean =>
  allowed.some((one) => one === hostname || (one.startsWith('*.') && hostname.endsWith(one.slice(1))));
