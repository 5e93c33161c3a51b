import { withApiBase } from '../../core/provider/api-base.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { fillKnown } from '../../core/provider/placeholders.ts';
import { findClient } from '../clients/index.ts';
import { unconfirmedOf } from '../records/index.ts';
import type { ClientRow } from '../store/clients.ts';
import type { GrantParts } from './parts.ts';

export interface DefinedConnection {
  /** With the client's values and the connection's, and the API's address where the token answer named it. */
  definition: ProviderDefinition;
  record: ClientRow;
  unconfirmed: string[];
}

/** The definition as this connection meets it. */
export async function connectionDefinition(
  s: Pick<GrantParts, 'store'>,
  connection: { provider: string; client: string; placeholders: Record<string, string>; apiBaseUrl: string | null },
): Promise<DefinedConnection> {
  const { record, definition } = await findClient(s, connection.provider, connection.client);
  return {
    record,
    unconfirmed: unconfirmedOf(record, definition),
    definition: withApiBase(fillKnown(definition, { ...record.placeholders, ...connection.placeholders }), connection.apiBaseUrl),
  };
}
