import { createPrivateKey, createPublicKey, generateKeyPairSync, randomUUID } from 'node:crypto';
import { type JWTPayload, SignJWT } from 'jose';
import type { StandinStore } from './state.ts';

/** What a stand-in signs with: ID tokens, and access tokens where they are JWTs. The key is kept with its state. */
function keyOf(store: StandinStore): { kid: string; pem: string } {
  store.state.signing ??= {
    kid: randomUUID().slice(0, 8),
    pem: generateKeyPairSync('ec', { namedCurve: 'P-256' }).privateKey.export({ type: 'pkcs8', format: 'pem' }).toString(),
  };
  return store.state.signing;
}

export function publishedKeys(store: StandinStore): { keys: object[] } {
  const { kid, pem } = keyOf(store);
  return { keys: [{ ...createPublicKey(createPrivateKey(pem)).export({ format: 'jwk' }), kid, use: 'sig', alg: 'ES256' }] };
}

export function signed(store: StandinStore, claims: JWTPayload, typ: string, lives: { now: number; seconds: number }): Promise<string> {
  const { kid, pem } = keyOf(store);
  const issuedAt = Math.floor(lives.now / 1000);
  return new SignJWT(claims)
    .setProtectedHeader({ alg: 'ES256', kid, typ })
    .setIssuedAt(issuedAt)
    .setExpirationTime(issuedAt + lives.seconds)
    .setJti(randomUUID())
    .sign(createPrivateKey(pem));
}
