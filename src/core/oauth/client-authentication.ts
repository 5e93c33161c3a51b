import { SignJWT } from 'jose';
import type { ProviderDefinition } from '../provider/definition.ts';
import type { Secret } from '../secret.ts';
import { chooseAlgorithm, openClientKey } from './client-keys.ts';
import type { ClientAssertionAlgorithm, ClientAuthenticationMethod } from './methods.ts';

export type { ClientAuthenticationMethod } from './methods.ts';

/** How a client says who it is. `secret`: the secret, the service user's password, or the PEM of its key. */
export interface ClientCredentials {
  clientId: string;
  method: ClientAuthenticationMethod;
  /** Null with `none`. */
  secret: Secret | null;
  /** Which record of the client's secrets this is. */
  secretId: string | null;
  /** Of a key: with what it signs, and the key id that is sent (null: none). Left out: as the definition states, with its thumbprint. */
  signing?: { algorithm: ClientAssertionAlgorithm | null; keyId: string | null } | undefined;
}

/** application/x-www-form-urlencoded, as RFC 6749 Appendix B asks: `+` for a space, `*-._` kept. */
const formEncode = (text: string): string => new URLSearchParams({ v: text }).toString().slice(2);

/** The header of `client_secret_basic`: id and secret are form-encoded before they are joined (RFC 6749 §2.3.1). */
export const basicAuthorization = (clientId: string, secret: string, encode = formEncode): string =>
  `Basic ${Buffer.from(`${encode(clientId)}:${encode(secret)}`, 'utf8').toString('base64')}`;

const ASSERTION_LIFE_SECONDS = 120;
const ASSERTION_TYPE = 'urn:ietf:params:oauth:client-assertion-type:jwt-bearer';

/**
 * Puts the client's authentication into a token request: RFC 6749 §2.3.1, or an assertion of RFC 7523 §2.2.
 * Basic form-encodes id and secret before joining them, unless the dialect states `raw`.
 * @param once when the assertion is made (epoch ms), and its own id, never used before.
 */
export async function authenticateClient(
  definition: Pick<ProviderDefinition, 'dialect' | 'server'>,
  credentials: ClientCredentials,
  { parameters, headers }: { parameters: Map<string, string>; headers: Record<string, string> },
  once: { now: number; jti: string },
): Promise<void> {
  const { clientId, method } = credentials;
  const secret = credentials.secret?.reveal() ?? '';
  switch (method) {
    case 'client_secret_basic':
      headers.authorization = basicAuthorization(clientId, secret, definition.dialect.basic_encoding === 'raw' ? (text) => text : formEncode);
      return;
    case 'client_secret_post':
      parameters.set('client_id', clientId).set('client_secret', secret);
      return;
    case 'none':
      parameters.set('client_id', clientId);
      return;
    case 'private_key_jwt':
      parameters
        .set('client_id', clientId)
        .set('client_assertion_type', ASSERTION_TYPE)
        .set('client_assertion', await signedAssertion(definition, credentials, { subject: credentials.clientId, claims: {} }, once));
      return;
    default:
      method satisfies never;
  }
}

/**
 * An assertion signed with the client's key (RFC 7523 §3): alone it authenticates the client (§2.2); with another subject it asks
 * for a token in that account's name (§2.1).
 */
export async function signedAssertion(
  definition: Pick<ProviderDefinition, 'dialect' | 'server'>,
  credentials: ClientCredentials,
  { subject, claims }: { subject: string; claims: Record<string, string> },
  once: { now: number; jti: string },
): Promise<string> {
  const { algorithm: preferred, key_name: keyName, audience } = definition.dialect.client_assertion;
  const { key, facts } = await openClientKey(credentials.secret as Secret);
  const { signing } = credentials;
  const name = { kid: signing ? signing.keyId : facts.kid, x5t: facts.x5t, 'x5t#S256': facts.x5tS256 }[keyName];
  const chosen = chooseAlgorithm(facts.type, preferred, definition.server.token_endpoint_auth_signing_alg_values_supported);
  const algorithm = signing?.algorithm ?? ('algorithm' in chosen ? chosen.algorithm : preferred);
  const seconds = Math.floor(once.now / 1000);
  return new SignJWT(claims)
    .setProtectedHeader({ alg: algorithm, typ: 'JWT', ...(name === null ? {} : { [keyName]: name }) })
    .setIssuer(credentials.clientId)
    .setSubject(subject)
    .setAudience(audience === 'issuer' ? (definition.server.issuer ?? definition.server.token_endpoint) : definition.server.token_endpoint)
    .setIssuedAt(seconds)
    .setNotBefore(seconds)
    .setExpirationTime(seconds + ASSERTION_LIFE_SECONDS)
    .setJti(once.jti)
    .sign(key);
}

/** The first method that the provider's metadata lists; RFC 8414 §2 makes Basic the default. */
export const chooseMethod = (supported: readonly ClientAuthenticationMethod[]): ClientAuthenticationMethod => supported[0] ?? 'client_secret_basic';
