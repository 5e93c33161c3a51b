import ipaddr from 'ipaddr.js';

/**
 * Addresses to which nothing is sent unless it is configured: everything that the IANA special-purpose address registries do not call
 * globally reachable (RFC 6890), and multicast. Of IPv6 only global unicast (2000::/3) is used, less what is special in it.
 */
const NOT_GLOBAL_V4 = [
  '0.0.0.0/8',
  '10.0.0.0/8',
  '100.64.0.0/10',
  '127.0.0.0/8',
  '169.254.0.0/16',
  '172.16.0.0/12',
  '192.0.0.0/24',
  '192.0.2.0/24',
  '192.88.99.0/24',
  '192.168.0.0/16',
  '198.18.0.0/15',
  '198.51.100.0/24',
  '203.0.113.0/24',
  '224.0.0.0/4',
  '240.0.0.0/4',
].map((range) => ipaddr.IPv4.parseCIDR(range));
const GLOBAL_V6 = ipaddr.IPv6.parseCIDR('2000::/3');
const NOT_GLOBAL_V6 = [
  '2001::/23', // IETF protocol assignments, Teredo and benchmarking among them
  '2001:db8::/32',
  '2002::/16', // 6to4 carries an IPv4 address, perhaps a private one
  '3fff::/20',
].map((range) => ipaddr.IPv6.parseCIDR(range));
/** Within the assignments, and globally reachable (IANA IPv6 registry). */
const GLOBAL_WITHIN = ['2001:1::1/128', '2001:1::2/128', '2001:1::3/128', '2001:3::/32', '2001:4:112::/48', '2001:20::/28', '2001:30::/28'].map((range) =>
  ipaddr.IPv6.parseCIDR(range),
);

/** True for an address that is not globally reachable, however it is written; also for what is no address. */
export function isPrivateAddress(address: string): boolean {
  // `::a.b.c.d` (deprecated, RFC 4291 §2.5.5.1) is read by the package as the IPv4 address in it.
  if (!ipaddr.isValid(address) || /^::\d+\./.test(address)) return true;
  const parsed = ipaddr.process(address); // an IPv4 address mapped into IPv6 counts as what it is
  if (parsed instanceof ipaddr.IPv4) return NOT_GLOBAL_V4.some((range) => parsed.match(range));
  if (!parsed.match(GLOBAL_V6)) return true;
  return NOT_GLOBAL_V6.some((range) => parsed.match(range)) && !GLOBAL_WITHIN.some((range) => parsed.match(range));
}
