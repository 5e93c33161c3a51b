import { expect, test } from 'vitest';
import { isPrivateAddress } from './address.ts';
import { isAllowed, isForbiddenSocket, outgoingLookup } from './lookup.ts';
import { outgoing } from './send.ts';

/** Both IANA special-purpose registries, entry by entry: an address of each, and whether it is globally reachable. */
const REGISTRIES: [range: string, address: string, reachable: boolean][] = [
  ['0.0.0.0/8', '0.1.2.3', false],
  ['10.0.0.0/8', '10.1.2.3', false],
  ['100.64.0.0/10', '100.64.0.1', false],
  ['127.0.0.0/8', '127.0.0.1', false],
  ['169.254.0.0/16', '169.254.169.254', false],
  ['172.16.0.0/12', '172.31.255.255', false],
  ['192.0.0.0/24', '192.0.0.8', false],
  ['192.0.0.170/32', '192.0.0.170', false],
  ['192.0.2.0/24', '192.0.2.1', false],
  ['192.31.196.0/24', '192.31.196.1', true],
  ['192.52.193.0/24', '192.52.193.1', true],
  ['192.88.99.0/24', '192.88.99.1', false],
  ['192.168.0.0/16', '192.168.1.1', false],
  ['192.175.48.0/24', '192.175.48.1', true],
  ['198.18.0.0/15', '198.19.255.255', false],
  ['198.51.100.0/24', '198.51.100.1', false],
  ['203.0.113.0/24', '203.0.113.7', false],
  ['240.0.0.0/4', '240.0.0.1', false],
  ['255.255.255.255/32', '255.255.255.255', false],
  ['multicast', '224.0.0.1', false],
  ['global', '172.32.0.1', true],
  ['global', '8.8.4.4', true],
  ['::1/128', '::1', false],
  ['::/128', '::', false],
  ['::/96', '::8.8.4.4', false],
  ['::ffff:0:0/96', '::ffff:127.0.0.1', false],
  ['::ffff:0:0/96 in hex', '::ffff:7f00:1', false],
  ['::ffff:0:0/96 of a global one', '::ffff:8.8.4.4', true],
  ['64:ff9b::/96', '64:ff9b::7f00:1', false],
  ['64:ff9b:1::/48', '64:ff9b:1::1', false],
  ['100::/64', '100::1', false],
  ['2001::/23', '2001:100::1', false],
  ['2001::/32', '2001::1', false],
  ['2001:1::1/128', '2001:1::1', true],
  ['2001:2::/48', '2001:2::1', false],
  ['2001:3::/32', '2001:3::1', true],
  ['2001:4:112::/48', '2001:4:112::1', true],
  ['2001:10::/28', '2001:10::1', false],
  ['2001:20::/28', '2001:20::1', true],
  ['2001:30::/28', '2001:30::1', true],
  ['2001:db8::/32', '2001:db8::7', false],
  ['2002::/16', '2002:7f00:1::1', false],
  ['2620:4f:8000::/48', '2620:4f:8000::1', true],
  ['3fff::/20', '3fff::1', false],
  ['5f00::/16', '5f00::1', false],
  ['fc00::/7', 'fd00::1', false],
  ['fe80::/10', 'fe80::1', false],
  ['fec0::/10', 'fec0::1', false],
  ['ff00::/8', 'ff02::1', false],
  ['global', '2606:4700::1111', true],
  ['no address', 'kettle', false],
];
test.each(REGISTRIES)('%s: %s is reachable: %s', (_range, address, reachable) => expect(isPrivateAddress(address)).toBe(!reachable));

test('the socket itself is judged: a name that resolves to another address by then leads nowhere', () => {
  expect(isForbiddenSocket('api.saltmarsh.example', '127.0.0.1', [])).toBe(true);
  expect(isForbiddenSocket('api.saltmarsh.example', undefined, [])).toBe(true);
  expect(isForbiddenSocket('api.saltmarsh.example', '8.8.4.4', [])).toBe(false);
  expect(isForbiddenSocket('api.eelgrass.localhost', '127.0.0.1', ['*.localhost'])).toBe(false);
});

test.each([
  ['id.eelgrass.localhost', ['*.localhost'], true],
  ['localhost', ['*.localhost'], false],
  ['evil-localhost', ['*.localhost'], false],
  ['db.inner.example', ['db.inner.example'], true],
  ['x.db.inner.example', ['db.inner.example'], false],
])('%s under %j is allowed: %s', (host, allowed, wanted) => expect(isAllowed(host, allowed)).toBe(wanted));

const resolve = (host: string, allowed: string[]) =>
  new Promise<string>((done) =>
    outgoingLookup(allowed)(host, {}, (error, address) => done(error ? ((error as NodeJS.ErrnoException).code ?? 'error') : String(address))),
  );

test('a name below localhost is loopback (RFC 6761), and goes nowhere unless it is allowed', async () => {
  expect(await resolve('api.eelgrass.localhost', ['*.localhost'])).toBe('127.0.0.1');
  expect(await resolve('api.eelgrass.localhost', [])).toBe('ADDRESS_FORBIDDEN');
});

test.each(['http://127.0.0.1:9/', 'http://[::1]:9/', 'http://localhost:9/', 'http://2130706433:9/', 'http://0x7f.1:9/'])(
  '%s is not called, however it is written',
  async (url) => {
    const out = outgoing([]);
    expect(await out.send({ method: 'GET', url, headers: {}, deadlineMs: 2_000, limitBytes: 10 })).toMatchObject({
      kind: 'unsent',
      reason: 'address_forbidden',
    });
    await out.close();
  },
);
