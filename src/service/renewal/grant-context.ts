import { LRUCache } from 'lru-cache';
import { type ClientCredentials, chooseMethod } from '../../core/oauth/client-authentication.ts';
import { ProviderDefinition } from '../../core/provider/definition.ts';
import { composeDefinition } from '../../core/provider/placeholders.ts';
import type { RenewalPolicy } from '../../core/renewal/plan.ts';
import type { Sealer } from '../sealer.ts';
import { type Bind, type Database, idBytes, idText } from '../store/database.ts';

/** What a request on behalf of a grant needs to know besides its tokens. */
export interface GrantContext {
  grantId: string;
  connectionId: string;
  connectionName: string;
  intent: string;
  clientRecordId: string;
  clientName: string;
  clientHealth: string;
  /** The provider asked this client for patience until then, epoch ms; 0: it did not. */
  clientHeldUntil: number;
  policy: RenewalPolicy;
  lastUsedAt: number | null;
  definition: ProviderDefinition;
  scopes: string[];
  /** Null: the client has no id or no secret. */
  credentials: ClientCredentials | null;
}

export interface GrantContexts {
  of(grantIds: string[]): Promise<Map<string, GrantContext>>;
  credentialsOf(clientRecordId: string, definition: ProviderDefinition): Promise<ClientCredentials | null>;
}

/** Definitions never change under their version id, so they are kept; clients and secrets are read each time. */
export function grantContexts(database: Database, sealer: Sealer): GrantContexts {
  const definitions = new LRUCache<string, ProviderDefinition>({ max: 500 });
  const definition = async (versionId: Buffer, placeholders: string): Promise<ProviderDefinition> => {
    const key = `${versionId.toString('hex')} ${placeholders}`;
    const kept = definitions.get(key);
    if (kept) return kept;
    const [row] = await database.select<{ document: string }>('SELECT document FROM provider_versions WHERE id = $1', [versionId]);
    const read = composeDefinition(ProviderDefinition.parse(JSON.parse(row?.document ?? 'null')), JSON.parse(placeholders) as Record<string, string>);
    definitions.set(key, read);
    return read;
  };
  const credentials = async (clientRecordId: Buffer, clientId: string | null, of: ProviderDefinition): Promise<ClientCredentials | null> => {
    if (clientId === null) return null;
    const [row] = await database.select<{ id: Buffer; sealed: Buffer }>(
      "SELECT id, sealed FROM client_secrets WHERE client_id = $1 AND state = 'active' ORDER BY starts_at DESC LIMIT 1",
      [clientRecordId],
    );
    if (!row) return null;
    const secret = await sealer.open({ table: 'client_secrets', row: idText(row.id), column: 'sealed' }, row.sealed);
    return { clientId, secret, method: chooseMethod(of.server.token_endpoint_auth_methods_supported) };
  };
  return {
    async of(grantIds) {
      const found = new Map<string, GrantContext>();
      if (grantIds.length === 0) return found;
      const bind: Bind[] = [];
      const list = grantIds.map((id) => `$${bind.push(idBytes(id))}`).join(', ');
      // From the grants inwards: left to itself, the optimizer starts at the few clients and reads all their connections.
      const rows = await database.select<{
        grant_id: Buffer;
        connection_id: Buffer;
        name: string;
        intent: string;
        client_record: Buffer;
        client_name: string;
        client_id: string | null;
        health: string;
        held_until: Date | null;
        policy: string;
        last_used_at: Date | null;
        version_id: Buffer;
        placeholders: string;
        scopes: string;
      }>(
        `SELECT g.id AS grant_id, g.scopes, k.id AS connection_id, k.name, k.intent, k.policy, k.last_used_at, c.placeholders, c.id AS client_record, c.name AS client_name, c.client_id, c.health, c.held_until, p.version_id
         FROM grants g STRAIGHT_JOIN connections k ON k.id = g.connection_id STRAIGHT_JOIN clients c ON c.id = k.client_id STRAIGHT_JOIN providers p ON p.id = c.provider_id WHERE g.id IN (${list})`,
        bind,
      );
      const byClient = new Map<string, Promise<ClientCredentials | null>>();
      for (const row of rows) {
        const of = await definition(row.version_id, row.placeholders);
        const clientKey = row.client_record.toString('hex');
        if (!byClient.has(clientKey)) byClient.set(clientKey, credentials(row.client_record, row.client_id, of));
        const grantId = idText(row.grant_id);
        found.set(grantId, {
          grantId,
          connectionId: idText(row.connection_id),
          connectionName: row.name,
          intent: row.intent,
          clientRecordId: idText(row.client_record),
          clientName: `${of.name}/${row.client_name}`,
          clientHealth: row.health,
          clientHeldUntil: row.held_until?.getTime() ?? 0,
          policy: row.policy as RenewalPolicy,
          lastUsedAt: row.last_used_at?.getTime() ?? null,
          definition: of,
          scopes: JSON.parse(row.scopes) as string[],
          credentials: (await byClient.get(clientKey)) ?? null,
        });
      }
      return found;
    },
    async credentialsOf(clientRecordId, of) {
      const [row] = await database.select<{ client_id: string | null }>('SELECT client_id FROM clients WHERE id = $1', [idBytes(clientRecordId)]);
      return credentials(idBytes(clientRecordId), row?.client_id ?? null, of);
    },
  };
}
