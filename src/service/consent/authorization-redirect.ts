import { base64url } from '../../core/identifiers.ts';
import { authorizationUrl } from '../../core/oauth/authorization-request.ts';
import { asksOpenid } from '../../core/oauth/offline.ts';
import { codeVerifier } from '../../core/oauth/pkce.ts';
import { Secret } from '../../core/secret.ts';
import { hashOf } from '../hash.ts';
import type { ConsentFacts, ConsentRow } from '../store/consents.ts';
import type { ConsentParts } from './parts.ts';
import type { ConsentParties } from './view.ts';

/** What the browser is sent away with: state, PKCE, nonce (RFC 9700 §2.1.1, §4.7). */
export function buildAuthorizationRedirect(
  s: Pick<ConsentParts, 'ports' | 'sealer'>,
  consent: ConsentRow,
  parties: ConsentParties,
): { location: string; set: Partial<ConsentRow> } {
  const { client, definition, connection } = parties;
  const state = base64url(s.ports.random.bytes(32));
  const verifier = definition.dialect.pkce === 'S256' ? new Secret(codeVerifier(s.ports.random.bytes(32))) : null;
  const scopes = consent.scopes;
  const nonce = asksOpenid(scopes) ? base64url(s.ports.random.bytes(16)) : undefined;
  const facts: ConsentFacts = { ...consent.facts, startedAt: s.ports.clock.now(), ...(nonce ? { nonce } : {}) };
  const location = authorizationUrl(definition, {
    clientId: client.clientId ?? '',
    redirectUri: facts.redirectUri ?? client.redirectUri,
    scopes,
    state,
    verifier: verifier?.reveal() ?? null,
    expectedAccount: connection.expectedAccount,
    reconsent: connection.currentGrantId !== null,
    ...(nonce ? { nonce } : {}),
  });
  const set = {
    phase: 'started' as const,
    stateHash: hashOf(state),
    facts,
    verifierSealed: verifier ? s.sealer.seal({ table: 'consents', row: consent.id, column: 'verifier_sealed' }, verifier) : null,
  };
  return { location, set };
}
