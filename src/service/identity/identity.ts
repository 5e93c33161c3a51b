import type { JWTPayload } from 'jose';
import { z } from 'zod';
import type { IdentityProviderShown, SetIdentityProvider } from '../../api/identity.ts';
import { Fault } from '../../core/fault.ts';
import { base64url } from '../../core/identifiers.ts';
import { parsedJson } from '../../core/json.ts';
import { basicAuthorization } from '../../core/oauth/client-authentication.ts';
import { checkIdToken } from '../../core/oauth/id-token.ts';
import { codeChallenge, codeVerifier } from '../../core/oauth/pkce.ts';
import type { Send } from '../../core/oauth/wire.ts';
import { Secret } from '../../core/secret.ts';
import { accessOf, accountName, authorizationUrl, groupsIn, type IdentityMetadata, readLogoutToken } from '../../core/sign-in/oidc.ts';
import type { SignedInOperator } from '../asked.ts';
import { hashOf } from '../hash.ts';
import type { History } from '../history/index.ts';
import { iso } from '../iso.ts';
import type { From, NewSession, Operators } from '../operators/index.ts';
import type { Ports } from '../ports.ts';
import type { Sealer } from '../sealer.ts';
import type { IdentityProviderRow } from '../store/identity-providers.ts';
import type { Store } from '../store/store.ts';
import { type ProviderDocuments, providerDocuments } from './provider.ts';

export const SIGN_IN_SECONDS = 600;
const COOKIE_PLACE = { table: 'sign_ins', row: '1', column: 'state' };
const SECRET_PLACE = { table: 'identity_providers', row: '1', column: 'secret_sealed' };
const EXCHANGE_MS = 15_000;
const LIMIT = 300_000;
const LOGOUT_KEPT_MS = 30 * 60_000;
/** What the browser keeps, sealed, between going there and coming back. */
const Begun = z.object({ state: z.string(), nonce: z.string(), verifier: z.string(), at: z.number() });
const Tokens = z.looseObject({ id_token: z.string().max(60_000), access_token: z.string().optional() });

interface Parts {
  store: Pick<Store, 'identityProvider' | 'operators' | 'sessions' | 'callerIdentities'>;
  operators: Operators;
  sealer: Sealer;
  history: History;
  send: Send;
  publicUrl: string;
  ports: Pick<Ports, 'clock' | 'log' | 'random'>;
}

/** Operators sign in at the company's own OpenID Connect provider; its groups decide their roles. */
export interface IdentitySignIn {
  offers(): Promise<{ identity_provider: { title: string } | null }>;
  show(): Promise<IdentityProviderShown>;
  set(input: z.output<typeof SetIdentityProvider>, by: SignedInOperator): Promise<IdentityProviderShown>;
  remove(by: SignedInOperator): Promise<{ done: true }>;
  /** Where the browser goes, and what it keeps meanwhile. @throws {Fault} NOT_FOUND, PROVIDER_UNREACHABLE */
  start(): Promise<{ location: string; cookie: string }>;
  /** @throws {Fault} SIGN_IN_REFUSED with the reason */
  finish(query: Record<string, unknown>, cookie: string | undefined, from: From): Promise<NewSession>;
  /** Back-channel sign-out. @throws {Fault} SIGN_IN_REFUSED for a token that counts for nothing */
  signOut(token: unknown): Promise<void>;
}

export function identitySignIn(s: Parts): IdentitySignIn {
  const documents: ProviderDocuments = providerDocuments(s);
  const redirectUri = `${s.publicUrl}/sign-in/callback`;
  const refused = (detail: string, remedy?: string) => new Fault('SIGN_IN_REFUSED', { detail, ...(remedy ? { remedy } : {}) });
  const provider = async (): Promise<IdentityProviderRow> => {
    const row = await s.store.identityProvider.read();
    if (!row) throw new Fault('NOT_FOUND', { detail: 'No identity provider is set up here.' });
    return row;
  };
  const show = async (): Promise<IdentityProviderShown> => {
    const row = await s.store.identityProvider.read();
    const warnings: string[] = [];
    if (row) {
      const hasWay = (await s.store.operators.list()).some(
        (one) => one.source === 'local' && one.state === 'active' && one.role === 'administrator' && one.limits.length === 0,
      );
      if (!hasWay) warnings.push('No local administrator is left: nobody could sign in while the provider is down.');
      if (!row.rules.some((one) => one.role === 'administrator' && one.labels.length === 0))
        warnings.push('No group gives the role administrator without limits.');
    }
    return {
      provider: row && {
        ...{ title: row.title, issuer: row.issuer, client_id: row.clientId, has_secret: row.secretSealed !== null, scopes: row.scopes },
        ...{ groups_claim: row.groupsClaim, rules: row.rules, changed_by: row.changedBy, changed_at: iso(row.changedAt) },
      },
      ...{ redirect_uri: redirectUri, logout_uri: `${s.publicUrl}/sign-in/back-channel`, warnings },
    };
  };

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
      ...(secret ? { hides: [secret] } : {}),
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
  /** Groups from the token, from where it says they are, or from the user info endpoint. */
  const groupsOf = async (row: IdentityProviderRow, metadata: IdentityMetadata, claims: JWTPayload, accessToken: string | undefined): Promise<string[]> => {
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
    if (metadata.userinfo_endpoint === undefined || accessToken === undefined) return [];
    const info = z.looseObject({ sub: z.string() }).safeParse(await documents.json(metadata.userinfo_endpoint, bearer(accessToken)));
    if (!info.success || info.data.sub !== claims.sub) return []; // Core §5.3.2: another person's answer must not be used
    const listed = groupsIn(info.data, row.groupsClaim);
    return listed.kind === 'listed' ? listed.groups : [];
  };
  /** The account of this person: made at the first sign-in; role and limits follow the groups each time. */
  const accountOf = async (row: IdentityProviderRow, claims: JWTPayload, groups: readonly string[]) => {
    const subject = `${row.issuer} ${claims.sub}`;
    const access = accessOf(groups, row.rules);
    const known = await s.store.operators.bySubject(subject);
    if (access === null) {
      if (known) await s.store.sessions.endIdentity(known.id, null);
      throw refused(
        groups.length === 0 ? 'The provider sent no groups for you.' : 'None of your groups has a role here.',
        'Ask an administrator: the groups with a role stand under Settings > Sign-in.',
      );
    }
    if (known?.state === 'disabled') throw refused('Your account is disabled here.', 'Ask an administrator.');
    return s.operators.fromIdentityProvider({
      known,
      subject,
      name: accountName(claims) ?? `person-${hashOf(subject).toString('hex').slice(0, 8)}`,
      ...access,
    });
  };

  return {
    offers: async () => {
      const row = await s.store.identityProvider.read();
      return { identity_provider: row && { title: row.title } };
    },
    show,
    async set({ client_secret, ...input }, by) {
      const before = await s.store.identityProvider.read();
      const metadata = await documents.metadata(input.issuer);
      if (metadata.code_challenge_methods_supported !== undefined && !metadata.code_challenge_methods_supported.includes('S256'))
        throw new Fault('METADATA_WRONG', { detail: 'It does not offer PKCE with S256.', remedy: 'Switch PKCE on at the provider.' });
      const isSame = before?.issuer === input.issuer && before.clientId === input.client_id;
      // A secret that was entered for another address or client is not sent to this one.
      const secretSealed = client_secret !== undefined ? s.sealer.seal(SECRET_PLACE, new Secret(client_secret)) : isSame ? before.secretSealed : null;
      await s.store.identityProvider.set({
        ...{ title: input.title, issuer: input.issuer, clientId: input.client_id, secretSealed, scopes: input.scopes },
        ...{ groupsClaim: input.groups_claim, rules: input.rules, changedBy: by.name, changedAt: s.ports.clock.now() },
      });
      const says = `Operators sign in at ${input.issuer}; ${input.rules.length} groups have roles.`;
      s.history.add({ actor: by.name, kind: 'identity_provider_changed', subject: 'operators', says, data: { rules: input.rules } });
      return show();
    },
    async remove(by) {
      await s.store.identityProvider.remove();
      for (const one of await s.store.operators.list()) if (one.source === 'identity_provider') await s.store.sessions.endAll(one.id);
      s.history.add({ actor: by.name, kind: 'identity_provider_removed', subject: 'operators', says: 'Ended sign-in at the identity provider.' });
      return { done: true };
    },
    async start() {
      const row = await provider();
      const metadata = await documents.metadata(row.issuer);
      const [state, nonce, verifier] = [base64url(s.ports.random.bytes(24)), base64url(s.ports.random.bytes(24)), codeVerifier(s.ports.random.bytes(32))];
      const begun: z.output<typeof Begun> = { state, nonce, verifier, at: s.ports.clock.now() };
      const cookie = s.sealer.seal(COOKIE_PLACE, new Secret(JSON.stringify(begun))).toString('base64url');
      const asked = { clientId: row.clientId, redirectUri, scopes: row.scopes, state, nonce, challenge: codeChallenge(verifier), login: false };
      return { location: authorizationUrl(metadata, asked), cookie };
    },
    async finish(query, cookie, from) {
      const row = await provider();
      const begun = await openCookie(s.sealer, cookie);
      const text = (name: string): string | undefined => (typeof query[name] === 'string' ? query[name] : undefined);
      if (!begun || s.ports.clock.now() - begun.at > SIGN_IN_SECONDS * 1000)
        throw refused('This sign-in was not started in this browser, or took longer than ten minutes.');
      if (text('state') !== begun.state) throw refused('The answer belongs to another sign-in (state).');
      const metadata = await documents.metadata(row.issuer);
      // RFC 9207: an answer of another issuer is a mix-up.
      const iss = text('iss');
      if (iss !== undefined ? iss !== row.issuer : metadata.authorization_response_iss_parameter_supported)
        throw refused('The answer came from another issuer (iss).');
      if (text('error') !== undefined) throw refused(`The provider answered ${text('error')?.slice(0, 60)}.`);
      const code = text('code');
      if (!code) throw refused('The answer has no code.');
      // A code is sent once: whoever comes back with the same answer starts again.
      if (!(await s.store.callerIdentities.useUp(hashOf(`sign-in ${begun.state}`), SIGN_IN_SECONDS * 1000))) throw refused('This answer was used before.');
      const tokens = await exchange(row, metadata, code, begun.verifier);
      const claims = await verified(row, metadata, tokens.id_token, begun.nonce);
      const account = await accountOf(row, claims, await groupsOf(row, metadata, claims, tokens.access_token));
      return s.operators.openSession(account, 'cookie', from, typeof claims.sid === 'string' ? claims.sid.slice(0, 200) : null);
    },
    async signOut(token) {
      const row = await provider();
      if (typeof token !== 'string' || token.length > 60_000) throw refused('logout_token is missing.');
      const metadata = await documents.metadata(row.issuer);
      const read = (keys: Awaited<ReturnType<ProviderDocuments['keys']>>) =>
        readLogoutToken(token, { issuer: row.issuer, clientId: row.clientId, keys, now: s.ports.clock.now() });
      let found = await read(await documents.keys(metadata));
      if ('wrong' in found) found = await read(await documents.keys(metadata, true));
      if ('wrong' in found) throw refused(found.wrong);
      if (!(await s.store.callerIdentities.useUp(hashOf(`logout ${found.jti}`), LOGOUT_KEPT_MS))) throw refused('This logout token was used before.');
      const account = found.sub === null ? null : await s.store.operators.bySubject(`${row.issuer} ${found.sub}`);
      const ended = account
        ? await s.store.sessions.endIdentity(account.id, found.sid)
        : found.sid === null
          ? 0
          : await s.store.sessions.endIdentitySession(found.sid);
      s.history.add({
        actor: 'identity provider',
        kind: 'sessions_ended',
        subject: account ? `operator:${account.name}` : 'operators',
        says: `Signed out by the identity provider: ${ended} sessions ended.`,
      });
    },
  };
}

async function openCookie(sealer: Sealer, cookie: string | undefined): Promise<z.output<typeof Begun> | null> {
  if (cookie === undefined || cookie.length > 2_000) return null;
  try {
    const read = Begun.safeParse(parsedJson((await sealer.open(COOKIE_PLACE, Buffer.from(cookie, 'base64url'))).reveal()));
    return read.success ? read.data : null;
  } catch {
    return null; // made up, or of before a key was deleted
  }
}
