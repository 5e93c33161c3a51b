import { generateKeyPairSync, type KeyObject } from 'node:crypto';
import { selfSigned } from '../src/core/certificates/self-signed.ts';

export interface MadeCertificate {
  /** Private key and certificate, as they are pasted here. */
  pem: string;
  /** The public part, as it is pasted at the provider. */
  certificate: string;
  key: KeyObject;
}

/** A self-signed certificate for the demo and the tests: nothing that anybody trusts. */
export async function makeCertificate(commonName: string, options: { days?: number; startsInDays?: number; ec?: boolean } = {}): Promise<MadeCertificate> {
  const { privateKey: key } = options.ec ? generateKeyPairSync('ec', { namedCurve: 'prime256v1' }) : generateKeyPairSync('rsa', { modulusLength: 2048 });
  const startsAt = Date.now() + (options.startsInDays ?? 0) * 86_400_000 - 60_000;
  const certificate = await selfSigned(key, { commonName, startsAt, endsAt: startsAt + (options.days ?? 365) * 86_400_000, serial: Buffer.alloc(16, 1) });
  return { pem: `${key.export({ type: 'pkcs8', format: 'pem' })}${certificate}\n`, certificate, key };
}
