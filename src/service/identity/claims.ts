import type { JWTPayload } from 'jose';
import { z } from 'zod';
import { Fault } from '../../core/fault.ts';
import { parsedJson } from '../../core/json.ts';
import { basicAuthorization } from '../../core/oauth/client-authentication.ts';
import { checkIdToken } from '../../core/oauth/id-token.ts';
import { hidesOf } from '../../core/oauth/masked.ts';
import { Secret } from '../../core/secret.ts';
import { accountName, groupsIn, type IdentityMetadata } from '../../core/sign-in/oidc.ts';
import type { IdentityProviderRow } from '../store/identity-providers.ts';
import { type IdentityParts, redirectUriOf, refused, SECRET_PLACE } from './parts.ts';
import type { ProviderDocuments } from './provider.ts';

const EXCHANGE_MS = 15_000;
const LIMIT = 300_000;
const Tokens = z.looseObject({ id_token: z.string().max(60_000), access_token: z.string().optional() });

/** What the provider says of a person: the tokens for a code, the claims of an ID token that is good, and the groups. */
export function identityClaims(s: IdentityParts, documents: ProviderDocuments) {
  const redirectUri = redirectUriOf(s.publicUrl);
  /** Exchanges the code (Core §3.1.3.1). */
  const exchange = async (row: IdentityProviderRow, metadata: IdentityMetadata, code: string, verifier: string): Promise<z.output<typeof Tokens>> => {
    const secret = row.secretSealed && (await s.sealer.open(SECRET_PLACE, row.secretSealed));
    const isBasic = secret !== null && metadata.token_endpoint_auth_methods_supported.includes('client_secret_basic');
    const body = new URLSearchParams({ grant_type: 'authorization_code', code, redirect_uri: redirectUri, code_verifier: verifier });
    const headers: Record<string, string> = { 'content-type': 'application/x-www-form-urlencoded', accept: 'application/json' };
    if (isBasic && secret) headers.authorization = basicAuthorization(row.clientId, secret.reveal());
    else {
      body.set('client_id', row.clientId);
      if (secret) body.set('client_secret', secret.reveal());
    }
    const answer = await s.send({
      ...{ method: 'POST', url: metadata.token_endpoint, headers, body: body.toString(), deadlineMs: EXCHANGE_MS, limitBytes: LIMIT, freshSocket: true },
      ...(secret ? { hides: hidesOf({ clientId: row.clientId, secret }) } : {}),
    });
    if (answer.kind !== 'answer')
      throw new Fault('PROVIDER_UNREACHABLE', { detail: 'The identity provider did not answer.', remedy: 'Sign in again later, or with a local account.' });
    if (answer.status !== 200)
      throw refused(
        `The provider rejected the code (${answer.status}).`,
        'Compare client ID, secret and redirect URI with those at the provider: Settings > Sign-in.',
      );
    const read = Tokens.safeParse(parsedJson(answer.body));
    if (!read.success) throw refused('The provider sent no ID token.');
    return read.data;
  };
  const verified = async (row: IdentityProviderRow, metadata: IdentityMetadata, token: string, nonce: string): Promise<JWTPayload> => {
    const check = (keys: Awaited<ReturnType<ProviderDocuments['keys']>>) =>
      checkIdToken(new Secret(token), row.issuer, { clientId: row.clientId, nonce, keys, now: s.ports.clock.now() });
    const keys = await documents.keys(metadata);
    const first = await check(keys);
    if (first.kind === 'good') return first.claims;
    const fresh = await documents.keys(metadata, true); // the provider may have rotated them
    const second = fresh === keys ? first : await check(fresh);
    if (second.kind === 'good') return second.claims;
    throw refused(`The ID token is not good. ${second.why}`);
  };
  /** Claims of the person from the user info endpoint; null: there is none, or it answered for another person (Core §5.3.2). */
  const profileOf = async (metadata: IdentityMetadata, claims: JWTPayload, accessToken: string | undefined): Promise<Record<string, unknown> | null> => {
    if (metadata.userinfo_endpoint === undefined || accessToken === undefined) return null;
    const info = z.looseObject({ sub: z.string() }).safeParse(await documents.json(metadata.userinfo_endpoint, { authorization: `Bearer ${accessToken}` }));
    return info.success && info.data.sub === claims.sub ? info.data : null;
  };
  /** Groups from the token, from where it says they are, or from the user info endpoint. */
  const groupsOf = async (
    row: IdentityProviderRow,
    metadata: IdentityMetadata,
    claims: JWTPayload,
    { accessToken, profile }: { accessToken: string | undefined; profile(): Promise<Record<string, unknown> | null> },
  ): Promise<string[]> => {
    const found = groupsIn(claims, row.groupsClaim);
    if (found.kind === 'listed') return found.groups;
    const bearer = (token: string) => ({ authorization: `Bearer ${token}` });
    if (found.kind === 'elsewhere') {
      // Our own token goes to the provider's own origins alone.
      const isOwn = [metadata.issuer, metadata.token_endpoint, metadata.userinfo_endpoint].some(
        (url) => url !== undefined && new URL(url).origin === new URL(found.endpoint).origin,
      );
      const token = found.token ?? (isOwn ? (accessToken ?? null) : null);
      const read = await documents.json(found.endpoint, token === null ? {} : bearer(token));
      const values = z
        .union([
          z.object({ value: z.array(z.unknown()) }).transform((one) => one.value),
          z.looseObject({}).transform((one) => (one as Record<string, unknown>)[row.groupsClaim]),
        ])
        .safeParse(read);
      if (values.success && Array.isArray(values.data)) return values.data.filter((one): one is string => typeof one === 'string');
      throw refused(
        'The token names another address for the groups, which could not be fetched.',
        'Let the provider send only the groups assigned to this application.',
      );
    }
    const info = await profile();
    const listed = info === null ? null : groupsIn(info, row.groupsClaim);
    return listed?.kind === 'listed' ? listed.groups : [];
  };
  /** What the provider says of the person: the name is in the ID token or, by default, in the user info (Core §5.4); so are the groups. */
  const personOf = async (row: IdentityProviderRow, metadata: IdentityMetadata, claims: JWTPayload, accessToken: string | undefined) => {
    let asked: Promise<Record<string, unknown> | null> | null = null;
    const profile = () => (asked ??= profileOf(metadata, claims, accessToken));
    const groups = await groupsOf(row, metadata, claims, { accessToken, profile });
    return { groups, name: accountName(claims) ?? accountName((await profile()) ?? {}) };
  };
  return { exchange, verified, personOf };
}
