import 'reflect-metadata';
import { createPublicKey, type KeyObject, webcrypto } from 'node:crypto';
import * as x509 from '@peculiar/x509';

x509.cryptoProvider.set(webcrypto as never);

export interface CertificateWish {
  commonName: string;
  /** Epoch ms. */
  startsAt: number;
  endsAt: number;
  /** 16 random bytes. */
  serial: Uint8Array;
}

/** A common name without what would end it in a distinguished name (RFC 4514 §2.4). */
const escaped = (name: string): string => name.replace(/[\\,+"<>;=#]/g, '\\$&');

/** A self-signed certificate for a private key, as PEM (RFC 5280). Providers that take certificates of clients look at the key alone. */
export async function selfSigned(key: KeyObject, wish: CertificateWish): Promise<string> {
  const curve = key.asymmetricKeyDetails?.namedCurve;
  const algorithm =
    key.asymmetricKeyType === 'ec'
      ? { name: 'ECDSA', namedCurve: curve === 'secp384r1' ? 'P-384' : 'P-256', hash: curve === 'secp384r1' ? 'SHA-384' : 'SHA-256' }
      : { name: 'RSASSA-PKCS1-v1_5', hash: 'SHA-256' };
  const { subtle } = webcrypto;
  const [privateKey, publicKey] = await Promise.all([
    subtle.importKey('pkcs8', key.export({ type: 'pkcs8', format: 'der' }), algorithm, true, ['sign']),
    subtle.importKey('spki', createPublicKey(key).export({ type: 'spki', format: 'der' }), algorithm, true, ['verify']),
  ]);
  const made = await x509.X509CertificateGenerator.createSelfSigned({
    serialNumber: Buffer.from(wish.serial)
      .toString('hex')
      .replace(/^[89a-f]/, '7'), // positive (RFC 5280 §4.1.2.2)
    name: `CN=${escaped(wish.commonName)}`,
    keys: { privateKey, publicKey } as never,
    signingAlgorithm: algorithm,
    notBefore: new Date(wish.startsAt),
    notAfter: new Date(wish.endsAt),
    extensions: [
      new x509.BasicConstraintsExtension(false, undefined, true),
      new x509.KeyUsagesExtension(x509.KeyUsageFlags.digitalSignature, true),
      new x509.ExtendedKeyUsageExtension([x509.ExtendedKeyUsage.clientAuth]),
    ],
  });
  return made.toString('pem');
}
