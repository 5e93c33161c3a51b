import { Fault } from '../../core/fault.ts';
import { connectionDefinition } from '../grants/index.ts';
import type { ConnectionRow } from '../store/connections.ts';
import type { ConsentRow } from '../store/consents.ts';
import type { ConsentParts } from './parts.ts';
import type { ConsentParties } from './view.ts';

/** Who takes part in a consent: its connection and client, and what the provider's definition says. */
export interface Parties {
  with(connection: ConnectionRow, clientId: string, own: Record<string, string>): Promise<ConsentParties>;
  /** @throws {Fault} NOT_FOUND */
  of(consent: ConsentRow): Promise<ConsentParties>;
  /** @throws {Fault} NOT_FOUND */
  find(consentId: string): Promise<ConsentRow>;
}

export function consentParties(s: ConsentParts): Parties {
  const withClient = async (connection: ConnectionRow, clientId: string, own: Record<string, string>): Promise<ConsentParties> => {
    const client = await s.store.clients.byId(clientId);
    const provider = client && (await s.store.providers.byId(client.providerId));
    if (!client || !provider) throw new Fault('NOT_FOUND', { detail: 'The client of this connection was removed.' });
    const { definition, unconfirmed } = await connectionDefinition(s, { provider: provider.name, client: client.name, placeholders: own, apiBaseUrl: null });
    return { connection, client, definition, unconfirmed, placeholders: { ...client.placeholders, ...own } };
  };
  return {
    with: withClient,
    async of(consent) {
      const connection = await s.store.connections.byId(consent.connectionId);
      if (!connection) throw new Fault('NOT_FOUND', { detail: 'The connection of this consent was removed.' });
      return withClient(connection, consent.clientId, consent.facts.placeholders ?? connection.placeholders);
    },
    async find(consentId) {
      const consent = await s.store.consents.byId(consentId);
      if (!consent) throw new Fault('NOT_FOUND', { detail: 'There is no such consent.' });
      return consent;
    },
  };
}
