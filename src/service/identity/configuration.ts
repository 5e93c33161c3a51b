import type { IdentityProviderShown } from '../../api/identity.ts';
import { Fault } from '../../core/fault.ts';
import { Secret } from '../../core/secret.ts';
import { iso } from '../iso.ts';
import type { IdentitySignIn } from './identity-interface.ts';
import { type IdentityParts, redirectUriOf, SECRET_PLACE } from './parts.ts';
import type { ProviderDocuments } from './provider.ts';

/** Which provider operators sign in at, and what its groups may do. */
export function identityConfiguration(s: IdentityParts, documents: ProviderDocuments): Pick<IdentitySignIn, 'offers' | 'show' | 'set' | 'remove'> {
  const redirectUri = redirectUriOf(s.publicUrl);
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
  };
}
