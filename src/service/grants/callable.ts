import type { CallAnswer } from '../../api/common.ts';
import { Fault } from '../../core/fault.ts';
import { isClientsOwn, isKey } from '../../core/oauth/grant-kinds.ts';
import { withStaticKey } from '../../core/provider/api.ts';
import { withApiBase } from '../../core/provider/api-base.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { methodOf, refuseUnconfirmed } from '../records/index.ts';
import type { ClientRow } from '../store/clients.ts';
import type { ConnectionRow } from '../store/connections.ts';
import type { GrantRow } from '../store/grants.ts';
import { type AboutToken, isGood } from './calls.ts';
import { connectionDefinition } from './definition.ts';
import type { GrantParts } from './parts.ts';

/** One grant ready to be called with: its definition as the API wants it, and what is known of its token. */
export interface Callable {
  grant: GrantRow;
  definition: ProviderDefinition;
  about: AboutToken;
  client: ClientRow;
  /** The connection's values and the client's, by which addresses and saved calls are filled. */
  placeholders: Record<string, string>;
}

/** Also a grant that waits beside the current one can be called with. @throws {Fault} NOT_FOUND, ORIGIN_UNCONFIRMED */
export async function callableWith(s: GrantParts, grant: GrantRow, connection: ConnectionRow): Promise<Callable> {
  const client = await s.store.clients.byId(grant.clientId ?? connection.clientId);
  const provider = client && (await s.store.providers.byId(client.providerId));
  if (!client || !provider) throw new Fault('NOT_FOUND', { detail: 'The client of this connection was removed.' });
  const placeholders = grant.placeholders ?? connection.placeholders;
  const found = await connectionDefinition(s, { provider: provider.name, client: client.name, placeholders, apiBaseUrl: grant.apiBaseUrl });
  refuseUnconfirmed(found.unconfirmed);
  const based = withApiBase(found.definition, grant.apiBaseUrl);
  const definition = isKey(grant.kind) ? withStaticKey(based) : based;
  return {
    grant: { ...grant, clientId: client.id }, // grants of earlier versions did not know it
    definition,
    client,
    placeholders: { ...client.placeholders, ...placeholders },
    about: {
      definition,
      scopesRequested: connection.scopes,
      scopesGranted: grant.scopes,
      ofClient: isClientsOwn(grant.kind),
      byCertificate: methodOf(client, definition) === 'private_key_jwt',
    },
  };
}

export async function keepProof(s: Pick<GrantParts, 'store'>, grantId: string, answer: CallAnswer, definition: ProviderDefinition): Promise<void> {
  await s.store.grants.change(grantId, { proof: isGood(answer, definition) ? 'verified' : 'failed', proofAnswer: answer });
}
