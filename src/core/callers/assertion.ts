import { createLocalJWKSet, decodeJwt, errors, type JSONWebKeySet, type JWTPayload, jwtVerify } from 'jose';

/** RFC 7523 §2.2 and RFC 7521 §4.2. */
export const ASSERTION_TYPE = 'urn:ietf:params:oauth:client-assertion-type:jwt-bearer';
/** Asymmetric only: with `none` or an HMAC whoever reads a public key could sign (RFC 8725 §3.1, §3.2). */
export const ASSERTION_ALGORITHMS = ['RS256', 'RS384', 'RS512', 'PS256', 'PS384', 'PS512', 'ES256', 'ES384', 'ES512', 'EdDSA'] as const;
/** An assertion of a caller's own is for one request. */
const MAX_OWN_LIFE_SECONDS = 600;
const SKEW_SECONDS = 60;
export const MAX_ASSERTION = 16_000;

/** Claims as they were sent, before anything is verified: they only say which keys to look at. Null: no JWT. */
export function claimsOf(jwt: string): JWTPayload | null {
  if (jwt.length > MAX_ASSERTION) return null;
  try {
    return decodeJwt(jwt);
  } catch {
    return null;
  }
}

export type VerifiedAssertion = { claims: JWTPayload } | { wrong: string; unknownKey: boolean };

/**
 * Verifies signature, audience and times of an assertion (RFC 7523 §3).
 * @param own signed with a key of the caller: then `jti` is needed and the lifetime is short
 * @param now epoch ms
 */
export async function verifyAssertion(
  jwt: string,
  { keys, audiences, own, now }: { keys: JSONWebKeySet; audiences: readonly string[]; own: boolean; now: number },
): Promise<VerifiedAssertion> {
  try {
    const { payload } = await jwtVerify(jwt, createLocalJWKSet(keys), {
      algorithms: [...ASSERTION_ALGORITHMS],
      audience: [...audiences],
      clockTolerance: SKEW_SECONDS,
      currentDate: new Date(now),
      requiredClaims: own ? ['iss', 'sub', 'aud', 'exp', 'jti'] : ['iss', 'sub', 'aud', 'exp'],
    });
    if (own && (payload.exp ?? 0) * 1000 > now + (MAX_OWN_LIFE_SECONDS + SKEW_SECONDS) * 1000)
      return { wrong: `It expires more than ${MAX_OWN_LIFE_SECONDS / 60} minutes from now.`, unknownKey: false };
    return { claims: payload };
  } catch (error) {
    if (error instanceof errors.JWKSNoMatchingKey || error instanceof errors.JWSSignatureVerificationFailed)
      return { wrong: 'No key that is registered here signed it.', unknownKey: true };
    if (error instanceof errors.JWTExpired) return { wrong: 'It has expired.', unknownKey: false };
    if (error instanceof errors.JWTClaimValidationFailed) return { wrong: claimWords(error, audiences), unknownKey: false };
    if (error instanceof errors.JOSEAlgNotAllowed) return { wrong: `Its algorithm is not one of ${ASSERTION_ALGORITHMS.join(', ')}.`, unknownKey: false };
    return { wrong: 'It is not a signed JWT that can be read.', unknownKey: false };
  }
}

function claimWords({ claim, reason }: errors.JWTClaimValidationFailed, audiences: readonly string[]): string {
  if (reason === 'missing') return `The claim ${claim} is missing.`;
  if (claim === 'aud') return `Its audience must be ${audiences[0] ?? ''}.`;
  return `The claim ${claim} is not acceptable.`;
}

/** Whether claims are those that a rule names; a value ending in * matches what begins so. Every named claim must be there. */
export const matchesClaims = (claims: JWTPayload, wanted: Readonly<Record<string, string>>): boolean =>
  Object.keys(wanted).length > 0 &&
  Object.entries(wanted).every(([name, value]) => {
    const given = Object.hasOwn(claims, name) ? claims[name] : undefined;
    const texts = (Array.isArray(given) ? given : [given])
      .filter((one): one is string | number | boolean => ['string', 'number', 'boolean'].includes(typeof one))
      .map(String);
    return texts.some((text) => (value.endsWith('*') ? text.startsWith(value.slice(0, -1)) : text === value));
  });

const meets = (one: string, other: string): boolean => {
  const [a, b] = [one.replace(/\*$/, ''), other.replace(/\*$/, '')];
  if (one.endsWith('*')) return other.endsWith('*') ? a.startsWith(b) || b.startsWith(a) : b.startsWith(a);
  return other.endsWith('*') ? a.startsWith(b) : a === b;
};
/** Whether one token can have the claims of both rules: no claim that both name tells them apart. */
export const claimsOverlap = (one: Readonly<Record<string, string>>, other: Readonly<Record<string, string>>): boolean =>
  Object.entries(one).every(([name, value]) => !Object.hasOwn(other, name) || meets(value, other[name] ?? ''));
