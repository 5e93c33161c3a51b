import { generateKeyPairSync, type KeyObject, X509Certificate } from 'node:crypto';
import { readFileSync } from 'node:fs';
import fc from 'fast-check';
import forge from 'node-forge';
import { expect, test } from 'vitest';
import { readClientKey } from '../oauth/client-keys.ts';
import { readPkcs12 } from './pkcs12.ts';
import { selfSigned } from './self-signed.ts';
import { compareThumbprint, thumbprintsOf } from './thumbprints.ts';

const DAY_MS = 86_400_000;
const STARTS = Date.UTC(2026, 10, 1);
const rsa = (): KeyObject => generateKeyPairSync('rsa', { modulusLength: 2048 }).privateKey;
const signed = (key: KeyObject, commonName = 'Saltmarsh') =>
  selfSigned(key, { commonName, startsAt: STARTS, endsAt: STARTS + 90 * DAY_MS, serial: Buffer.alloc(16, 0xff) });

test.each([
  ['RSA', rsa()],
  ['P-256', generateKeyPairSync('ec', { namedCurve: 'prime256v1' }).privateKey],
  ['P-384', generateKeyPairSync('ec', { namedCurve: 'secp384r1' }).privateKey],
])('%s: the certificate is for this key, from then to then, and says who', async (_name, key) => {
  const certificate = new X509Certificate(await signed(key, 'Harbour, "north" = 7'));
  expect([certificate.checkPrivateKey(key), certificate.verify(certificate.publicKey), certificate.ca]).toEqual([true, true, false]);
  expect([Date.parse(certificate.validFrom), Date.parse(certificate.validTo)]).toEqual([STARTS, STARTS + 90 * DAY_MS]);
  expect(certificate.subject).toContain('north');
  expect(certificate.subject.split('\n')).toHaveLength(1); // nothing in a name makes another attribute
  expect(BigInt(`0x${certificate.serialNumber}`) > 0n).toBe(true);
});

test('a thumbprint is known in every form in which providers show it, and another one is distinguished', async () => {
  const der = new X509Certificate(await signed(rsa())).raw;
  const ours = thumbprintsOf(der);
  for (const digest of [ours.sha1, ours.sha256])
    for (const form of [
      digest.hex,
      digest.hex.toLowerCase(),
      digest.hex.replaceAll(':', ' '),
      digest.hex.replaceAll(':', ''),
      ` ${digest.base64}\n`,
      digest.base64url,
      `SHA-256 Fingerprint=${digest.hex}`,
    ])
      expect([form, compareThumbprint(form, ours).same]).toEqual([form, true]);
  fc.assert(
    fc.property(
      fc.constantFrom(20, 32).chain((size) => fc.uint8Array({ minLength: size, maxLength: size })),
      (bytes) => {
        expect(compareThumbprint(Buffer.from(bytes).toString('hex'), ours)).toMatchObject({
          same: false,
          says: expect.stringContaining('another certificate'),
        });
      },
    ),
  );
  expect(compareThumbprint('lf-svc-12', ours).says).toContain('no thumbprint');
});

/** A PKCS#12 file as other programs make it. */
function file(key: KeyObject, certificates: string[], password: string, algorithm: 'aes256' | '3des'): string {
  const pem = key.export({ type: 'pkcs8', format: 'pem' }).toString();
  const asn1 = forge.pkcs12.toPkcs12Asn1(
    forge.pki.privateKeyFromPem(pem),
    certificates.map((one) => forge.pki.certificateFromPem(one)),
    password,
    { algorithm },
  );
  return Buffer.from(forge.asn1.toDer(asn1).getBytes(), 'binary').toString('base64');
}

test('a PKCS#12 file gives its key and the one certificate of a chain that belongs to it; the wrong password and other files are named', async () => {
  const [key, other] = [rsa(), rsa()];
  const [own, chain] = [await signed(key), await signed(other, 'The issuer above')];
  for (const algorithm of ['aes256', '3des'] as const) {
    const taken = readPkcs12(file(key, [chain, own], 'quay', algorithm), 'quay');
    expect(taken.leftOut).toBe(1);
    expect((await readClientKey(taken.pem.reveal(), 'certificate')).facts.subject).toBe('CN=Saltmarsh');
  }
  // Made by an old program: the certificate under 40-bit RC2, the key under triple DES. Nothing else knows this key.
  const old = readPkcs12(readFileSync(new URL('../../../test/fixtures/old-rc2.p12', import.meta.url)).toString('base64'), 'quay');
  expect((await readClientKey(old.pem.reveal(), 'certificate')).facts).toMatchObject({ type: 'RSA 2048', subject: 'CN=Old harbour' });
  const good = file(key, [own], 'quay', 'aes256');
  for (const [base64, password, why] of [
    [good, 'key', /password does not open/],
    [good, '', /password does not open/],
    ['bm90IGEgZmlsZQ==', 'x', /no PKCS#12 file/],
    ['', 'x', /no PKCS#12 file/],
    [Buffer.from(own).toString('base64'), 'x', /no PKCS#12 file/],
    ['A'.repeat(100_000), 'x', /no PKCS#12 file/],
  ] as const)
    expect(() => readPkcs12(base64, password)).toThrow(why);
  const foreign = readPkcs12(file(key, [chain], 'quay', 'aes256'), 'quay');
  await expect(readClientKey(foreign.pem.reveal(), 'certificate')).rejects.toThrow(/no certificate/);
});
