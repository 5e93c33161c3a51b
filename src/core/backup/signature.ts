import { createHash, createPrivateKey, createPublicKey, hkdfSync, sign, verify } from 'node:crypto';
import { z } from 'zod';

/**
 * Who made a backup. A file that is locked for a public key can be made by anybody who has that key: so the installation signs it (Ed25519,
 * RFC 8032), and whoever restores it compares the fingerprint of the signing key.
 */
export const BackupSignature = z.object({ key: z.string(), signature: z.string() });
export type BackupSignature = z.output<typeof BackupSignature>;

/** PKCS #8 of an Ed25519 key up to its 32 bytes (RFC 8410 §7). */
const PKCS8_HEAD = Buffer.from('302e020100300506032b657004220420', 'hex');
const FINGERPRINT_CHARACTERS = 24;

const fingerprintOf = (spki: Buffer): string =>
  (createHash('sha256').update(spki).digest('hex').slice(0, FINGERPRINT_CHARACTERS).match(/.{4}/g) ?? []).join('-');

function keyOf(installationKey: Uint8Array) {
  const seed = Buffer.from(hkdfSync('sha256', installationKey, new Uint8Array(), 'backup-signature/1', 32));
  const secret = createPrivateKey({ key: Buffer.concat([PKCS8_HEAD, seed]), format: 'der', type: 'pkcs8' });
  return { secret, spki: createPublicKey(secret).export({ format: 'der', type: 'spki' }) };
}

/** By which people recognize the installation that signs. */
export const signerOf = (installationKey: Uint8Array): string => fingerprintOf(keyOf(installationKey).spki);

/** @param digest SHA-256 of all lines before the last one */
export function signBackup(installationKey: Uint8Array, digest: Uint8Array): BackupSignature {
  const { secret, spki } = keyOf(installationKey);
  return { key: spki.toString('base64'), signature: sign(null, digest, secret).toString('base64') };
}

/** The fingerprint of the key that signed; null: the signature is not good for these lines. */
export function verifiedSigner(digest: Uint8Array, { key, signature }: BackupSignature): string | null {
  try {
    const spki = Buffer.from(key, 'base64');
    const isGood = verify(null, digest, createPublicKey({ key: spki, format: 'der', type: 'spki' }), Buffer.from(signature, 'base64'));
    return isGood ? fingerprintOf(spki) : null;
  } catch {
    return null; // no key, or none of this kind
  }
}
