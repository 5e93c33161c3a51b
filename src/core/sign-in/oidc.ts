import { createLocalJWKSet, type JSONWebKeySet, type JWTPayload, jwtVerify } from 'jose';
import { z } from 'zod';

/** What an OpenID Connect provider publishes (Discovery §3), as far as a sign-in needs it. */
export const IdentityMetadata = z.looseObject({
  issuer: z.string(),
  authorization_endpoint: z.url(),
  token_endpoint: z.url(),
  jwks_uri: z.url(),
  userinfo_endpoint: z.url().optional(),
  token_endpoint_auth_methods_supported: z.array(z.string()).default(['client_secret_basic']),
  code_challenge_methods_supported: z.array(z.string()).optional(),
  authorization_response_iss_parameter_supported: z.boolean().default(false),
});
export type IdentityMetadata = z.output<typeof IdentityMetadata>;

/** Discovery §4.1: the path is added to the issuer, less its last slash. */
export const metadataUrl = (issuer: string): string => `${issuer.replace(/\/$/, '')}/.well-known/openid-configuration`;

/** The request for a code (Core §3.1.2.1), with PKCE S256, state and nonce, always. */
export function authorizationUrl(
  metadata: IdentityMetadata,
  asked: { clientId: string; redirectUri: string; scopes: readonly string[]; state: string; nonce: string; challenge: string; login: boolean },
): string {
  const url = new URL(metadata.authorization_endpoint);
  const parameters = {
    response_type: 'code',
    client_id: asked.clientId,
    redirect_uri: asked.redirectUri,
    scope: [...new Set(['openid', ...asked.scopes])].join(' '),
    state: asked.state,
    nonce: asked.nonce,
    code_challenge: asked.challenge,
    code_challenge_method: 'S256',
    ...(asked.login ? { prompt: 'login' } : {}),
  };
  for (const [name, value] of Object.entries(parameters)) url.searchParams.set(name, value);
  return url.href;
}

/** Groups of a person, or where they are to be fetched. */
export type Groups = { kind: 'listed'; groups: string[] } | { kind: 'elsewhere'; endpoint: string; token: string | null } | { kind: 'missing' };

/**
 * Reads the claim with the groups: a list, one text, or a reference to another place where they were too many for the token (distributed
 * claims, Core §5.6.2).
 */
export function groupsIn(claims: Readonly<Record<string, unknown>>, claim: string): Groups {
  const given = own(claims, claim);
  if (Array.isArray(given)) return { kind: 'listed', groups: given.filter((one): one is string => typeof one === 'string') };
  if (typeof given === 'string') return { kind: 'listed', groups: [given] };
  const names = own(claims, '_claim_names');
  const source = typeof names === 'object' && names !== null ? own(names as Record<string, unknown>, claim) : undefined;
  const sources = own(claims, '_claim_sources');
  const found = typeof source === 'string' && typeof sources === 'object' && sources !== null ? own(sources as Record<string, unknown>, source) : undefined;
  const read = z.looseObject({ endpoint: z.url(), access_token: z.string().optional() }).safeParse(found);
  return read.success ? { kind: 'elsewhere', endpoint: read.data.endpoint, token: read.data.access_token ?? null } : { kind: 'missing' };
}

const own = (object: Readonly<Record<string, unknown>>, key: string): unknown => (Object.hasOwn(object, key) ? object[key] : undefined);

export const GROUP_ROLES = ['viewer', 'operator', 'administrator'] as const;
type GroupRole = (typeof GROUP_ROLES)[number];
export interface GroupRule {
  group: string;
  role: GroupRole;
  /** Limits the account to connections with one of these; none: no limit. */
  labels: readonly string[];
}

/**
 * What a person may do by their groups: the highest role; of the rules for that role all labels together, and no limit where one of them has
 * none. Null: no group has a rule.
 */
export function accessOf(groups: readonly string[], rules: readonly GroupRule[]): { role: GroupRole; labels: string[] } | null {
  const fitting = rules.filter((rule) => groups.includes(rule.group));
  const role = GROUP_ROLES.findLast((one) => fitting.some((rule) => rule.role === one));
  if (role === undefined) return null;
  const deciding = fitting.filter((rule) => rule.role === role);
  return { role, labels: deciding.some((rule) => rule.labels.length === 0) ? [] : [...new Set(deciding.flatMap((rule) => rule.labels))].sort() };
}

/** A name for the account, of what the provider calls the person; null: nothing of it can be a name here. */
export function accountName(claims: Readonly<Record<string, unknown>>): string | null {
  for (const claim of ['preferred_username', 'email', 'name']) {
    const given = own(claims, claim);
    if (typeof given !== 'string') continue;
    const name = given
      .normalize('NFKD')
      .replace(/\p{M}/gu, '')
      .toLowerCase()
      .replace(/[^a-z0-9._@-]+/g, '-')
      .replace(/^[^a-z0-9]+|-+$/g, '')
      .slice(0, 63);
    if (name.length >= 2) return name;
  }
  return null;
}

const LOGOUT_EVENT = 'http://schemas.openid.net/event/backchannel-logout';
const ALGORITHMS = ['RS256', 'RS384', 'RS512', 'PS256', 'PS384', 'PS512', 'ES256', 'ES384', 'ES512', 'EdDSA'];
const SKEW_SECONDS = 120;
const LOGOUT_AGE_SECONDS = 600;

/** Who is signed out by a logout token (Back-Channel Logout §2.6), or why it counts for nothing. @param now epoch ms */
export async function readLogoutToken(
  token: string,
  { issuer, clientId, keys, now }: { issuer: string; clientId: string; keys: JSONWebKeySet; now: number },
): Promise<{ sub: string | null; sid: string | null; jti: string } | { wrong: string }> {
  let claims: JWTPayload;
  try {
    claims = (
      await jwtVerify(token, createLocalJWKSet(keys), {
        ...{ issuer, audience: clientId, algorithms: ALGORITHMS, clockTolerance: SKEW_SECONDS, currentDate: new Date(now) },
        ...{ requiredClaims: ['iat', 'jti', 'events'], maxTokenAge: LOGOUT_AGE_SECONDS },
      })
    ).payload;
  } catch {
    return { wrong: 'Issuer, audience, signature or time of the logout token are not good.' };
  }
  const events = claims.events as Record<string, unknown> | null;
  if (typeof events !== 'object' || events === null || typeof events[LOGOUT_EVENT] !== 'object') return { wrong: 'It is not a logout token.' };
  if (claims.nonce !== undefined) return { wrong: 'A logout token has no nonce: this is an ID token.' };
  const sid = typeof claims.sid === 'string' ? claims.sid : null;
  if (claims.sub === undefined && sid === null) return { wrong: 'It names neither a person nor a session.' };
  return { sub: claims.sub ?? null, sid, jti: String(claims.jti) };
}
