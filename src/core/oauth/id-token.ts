import { createLocalJWKSet, decodeJwt, errors, type JSONWebKeySet, type JWTPayload, jwtVerify } from 'jose';
import type { Secret } from '../secret.ts';

const SKEW_SECONDS = 120;
const ALGORITHMS = ['RS256', 'RS384', 'RS512', 'PS256', 'PS384', 'PS512', 'ES256', 'ES384', 'ES512', 'EdDSA'];

export interface ExpectedIdToken {
  clientId: string;
  /** What was sent with the authorization request; null: none was, as for a device. */
  nonce: string | null;
  /** The provider's published keys; null: it publishes none, and TLS to its token endpoint stands for them (Core §3.1.3.7, step 6). */
  keys: JSONWebKeySet | null;
  /** Epoch ms. */
  now: number;
}

export type IdTokenVerdict = { kind: 'good'; claims: JWTPayload } | { kind: 'odd'; why: string };

/** Checks an ID token (OpenID Connect Core §3.1.3.7): issuer, audience, authorized party, times and nonce always, the signature where keys are published. */
export async function checkIdToken(token: Secret, issuer: string | undefined, expected: ExpectedIdToken): Promise<IdTokenVerdict> {
  const odd = (why: string): IdTokenVerdict => ({ kind: 'odd', why });
  if (issuer === undefined) return odd('The definition names no issuer to compare it with.');
  let claims: JWTPayload;
  try {
    claims = decodeJwt(token.reveal());
  } catch {
    return odd('It is no JWT.');
  }
  if (claims.iss !== issuer) return odd(`It names another issuer than ${issuer}.`);
  const audience = [claims.aud ?? []].flat();
  if (!audience.includes(expected.clientId)) return odd('It is meant for another client.');
  if (claims.azp !== undefined && claims.azp !== expected.clientId) return odd('It was issued to another client (azp).');
  if (audience.length > 1 && claims.azp === undefined) return odd('It is meant for several clients and does not say to which it was issued (azp).');
  const seconds = expected.now / 1000;
  if (typeof claims.exp !== 'number' || claims.exp + SKEW_SECONDS < seconds) return odd('It has expired, or this machine\u2019s clock is wrong.');
  if (typeof claims.iat !== 'number' || claims.iat - SKEW_SECONDS > seconds) return odd('It was issued in the future: one of the two clocks is wrong.');
  if (typeof claims.sub !== 'string' || claims.sub === '') return odd('It names nobody (sub).');
  if (expected.nonce !== null && claims.nonce !== expected.nonce) return odd('Its nonce is not the one that was sent: it belongs to another sign-in.');
  if (expected.keys === null) return { kind: 'good', claims };
  try {
    const { payload } = await jwtVerify(token.reveal(), createLocalJWKSet(expected.keys), {
      algorithms: ALGORITHMS,
      issuer,
      audience: expected.clientId,
      clockTolerance: SKEW_SECONDS,
      currentDate: new Date(expected.now),
    });
    return { kind: 'good', claims: payload };
  } catch (cause) {
    return odd(cause instanceof errors.JWKSNoMatchingKey ? 'It is signed with a key that the provider does not publish.' : 'Its signature is not good.');
  }
}

/** Who signed in, by id and a name that people know. */
export function accountOf(claims: JWTPayload): { id: string; label: string } {
  const label = [claims.email, claims.preferred_username, claims.name].find((one): one is string => typeof one === 'string' && one !== '');
  return { id: String(claims.sub).slice(0, 300), label: (label ?? String(claims.sub)).slice(0, 300) };
}
