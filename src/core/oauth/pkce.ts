import { createHash } from 'node:crypto';
import { base64url } from '../identifiers.ts';

/** A code verifier of 43 characters from 32 random bytes (RFC 7636 §4.1). */
export const codeVerifier = (random: Uint8Array): string => base64url(random);

/** The S256 code challenge (RFC 7636 §4.2). */
export const codeChallenge = (verifier: string): string => base64url(createHash('sha256').update(verifier, 'ascii').digest());
