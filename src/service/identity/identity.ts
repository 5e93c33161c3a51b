import type { JWTPayload } from 'jose';
import { z } from 'zod';
import { Fault } from '../../core/fault.ts';
import { base64url } from '../../core/identifiers.ts';
import { parsedJson } from '../../core/json.ts';
import { codeChallenge, codeVerifier } from '../../core/oauth/pkce.ts';
import { Secret } from '../../core/secret.ts';
import { accessOf, authorizationUrl, readLogoutToken } from '../../core/sign-in/oidc.ts';
import { hashOf } from '../hash.ts';
import type { Sealer } from '../sealer.ts';
import type { IdentityProviderRow } from '../store/identity-providers.ts';
import { identityClaims } from './claims.ts';
import { identityConfiguration } from './configuration.ts';
import type { IdentitySignIn } from './identity-interface.ts';
import { type IdentityParts, redirectUriOf, refused } from './parts.ts';
import { type ProviderDocuments, providerDocuments } from './provider.ts';

export const SIGN_IN_SECONDS = 600;
const COOKIE_PLACE = { table: 'sign_ins', row: '1', column: 'state' };
const LOGOUT_KEPT_MS = 30 * 60_000;
/** What the browser keeps, sealed, between going there and coming back. */
const Begun = z.object({ state: z.string(), nonce: z.string(), verifier: z.string(), at: z.number() });

/** Sign-in at the company's own provider, from the way there to the way back. */
export function identitySignIn(s: IdentityParts): IdentitySignIn {
  const documents: ProviderDocuments = providerDocuments(s);
  const { exchange, verified, personOf } = identityClaims(s, documents);
  const redirectUri = redirectUriOf(s.publicUrl);
  const provider = async (): Promise<IdentityProviderRow> => {
    const row = await s.store.identityProvider.read();
    if (!row) throw new Fault('NOT_FOUND', { detail: 'No identity provider is set up here.' });
    return row;
  };
  /** The account of this person: made at the first sign-in; role and limits follow the groups each time. */
  const accountOf = async (row: IdentityProviderRow, claims: JWTPayload, { groups, name }: { groups: readonly string[]; name: string | null }) => {
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
      // Where the provider names nobody, or the name is another account's, an administrator can change it.
      ...{ name, unnamed: `person-${hashOf(subject).toString('hex').slice(0, 8)}` },
      ...access,
    });
  };

  return {
    ...identityConfiguration(s, documents),
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
      const account = await accountOf(row, claims, await personOf(row, metadata, claims, tokens.access_token));
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
