import { createHash } from 'node:crypto';

/** One digest in the three forms in which providers show it. */
export interface Digest {
  /** Upper case, a colon after each byte. */
  hex: string;
  base64: string;
  base64url: string;
}

export interface Thumbprints {
  sha1: Digest;
  sha256: Digest;
}

const digest = (algorithm: 'sha1' | 'sha256', der: Uint8Array): Digest => {
  const bytes = createHash(algorithm).update(der).digest();
  return { hex: (bytes.toString('hex').toUpperCase().match(/../g) ?? []).join(':'), base64: bytes.toString('base64'), base64url: bytes.toString('base64url') };
};

/** The thumbprints of a certificate, over its DER form. */
export const thumbprintsOf = (der: Uint8Array): Thumbprints => ({ sha1: digest('sha1', der), sha256: digest('sha256', der) });

export interface ThumbprintVerdict {
  same: boolean;
  says: string;
}

/** Compares what a provider shows with ours, whatever form it was pasted in: hex with colons, spaces or none, base64, base64url. */
export function compareThumbprint(pasted: string, ours: Thumbprints): ThumbprintVerdict {
  const bare = pasted.trim().replace(/^(sha-?(1|256)\s*(fingerprint|thumbprint)?\s*[:=]\s*)/i, '');
  const hex = bare.replace(/[\s:.-]/g, '');
  const isHex = /^[0-9a-f]+$/i.test(hex) && (hex.length === 40 || hex.length === 64);
  const bytes = isHex
    ? Buffer.from(hex, 'hex')
    : /^[A-Za-z0-9+/_-]+={0,2}$/.test(bare.replace(/\s/g, ''))
      ? Buffer.from(bare.replace(/\s/g, ''), 'base64')
      : Buffer.alloc(0);
  const name = bytes.length === 20 ? 'SHA-1' : bytes.length === 32 ? 'SHA-256' : null;
  if (name === null) return { same: false, says: 'This is no thumbprint: SHA-1 has 20 bytes, SHA-256 has 32, in hex, base64 or base64url.' };
  const own = Buffer.from(name === 'SHA-1' ? ours.sha1.base64 : ours.sha256.base64, 'base64');
  return own.equals(bytes)
    ? { same: true, says: `It is the ${name} thumbprint of this certificate.` }
    : { same: false, says: `It is a ${name} thumbprint of another certificate: perhaps an older one is still uploaded.` };
}
