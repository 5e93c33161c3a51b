import { expect, test } from 'vitest';
import { isAllowed, isPrivateAddress, outgoingLookup } from './lookup.ts';
import { outgoing } from './send.ts';

test.each([
  ['127.0.0.1', true],
  ['10.1.2.3', true],
  ['172.16.0.1', true],
  ['172.32.0.1', false],
  ['192.168.1.1', true],
  ['169.254.169.254', true],
  ['100.64.0.1', true],
  ['0.0.0.0', true],
  ['224.0.0.1', true],
  ['203.0.113.7', false],
  ['::1', true],
  ['::', true],
  ['fd00::1', true],
  ['fe80::1', true],
  ['::ffff:127.0.0.1', true],
  ['::ffff:7f00:1', true],
  ['64:ff9b::7f00:1', true],
  ['::ffff:203.0.113.7', false],
  ['2001:db8::7', false],
])('%s is private: %s', (address, wanted) => expect(isPrivateAddress(address)).toBe(wanted));

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
