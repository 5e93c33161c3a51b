import 'reflect-metadata';
import { createPrivateKey, webcrypto } from 'node:crypto';
import * as x509 from '@peculiar/x509';

x509.cryptoProvider.set(webcrypto as never);

/** A certificate with its private key, both PEM. */
export interface Issued {
  certificate: string;
  key: string;
}

/** An authority that signs certificates of servers and clients; nobody trusts it but who is given its certificate. */
export interface Authority {
  certificate: string;
  issue(commonName: string, use: 'server' | 'client'): Promise<Issued>;
}

const ALGORITHM = { name: 'ECDSA', namedCurve: 'P-256', hash: 'SHA-256' };
const DAY_MS = 86_400_000;

export async function makeAuthority(name: string): Promise<Authority> {
  const pair = () => webcrypto.subtle.generateKey(ALGORITHM, true, ['sign', 'verify']);
  const keys = await pair();
  let serial = 1;
  const base = () => {
    serial += 1;
    const now = Date.now();
    return {
      serialNumber: serial.toString(16).padStart(2, '0'),
      notBefore: new Date(now - DAY_MS),
      notAfter: new Date(now + 30 * DAY_MS),
      signingAlgorithm: ALGORITHM,
    };
  };
  const own = await x509.X509CertificateGenerator.createSelfSigned({
    ...base(),
    name: `CN=${name}`,
    keys: keys as never,
    extensions: [new x509.BasicConstraintsExtension(true, 1, true), new x509.KeyUsagesExtension(x509.KeyUsageFlags.keyCertSign, true)],
  });
  return {
    certificate: own.toString('pem'),
    async issue(commonName, use) {
      const { publicKey, privateKey } = await pair();
      const made = await x509.X509CertificateGenerator.create({
        ...base(),
        subject: `CN=${commonName}`,
        issuer: own.subject,
        publicKey: publicKey as never,
        signingKey: keys.privateKey as never,
        extensions: [
          new x509.ExtendedKeyUsageExtension([use === 'server' ? x509.ExtendedKeyUsage.serverAuth : x509.ExtendedKeyUsage.clientAuth]),
          ...(use === 'server' ? [new x509.SubjectAlternativeNameExtension([{ type: 'ip', value: '127.0.0.1' }])] : []),
        ],
      });
      const der = Buffer.from(await webcrypto.subtle.exportKey('pkcs8', privateKey));
      const key = createPrivateKey({ key: der, format: 'der', type: 'pkcs8' }).export({ type: 'pkcs8', format: 'pem' });
      return { certificate: made.toString('pem'), key: String(key) };
    },
  };
}
