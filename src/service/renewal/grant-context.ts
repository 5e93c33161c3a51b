import { chooseMethod } from '../../core/oauth/client-authentication.ts';
import { type GrantKind, isClientsOwn, isKey } from '../../core/oauth/grant-kinds.ts';
import type { ClientAuthenticationMethod } from '../../core/oauth/methods.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { isSpendable } from '../../core/provider/definition.ts';
import type { RenewalPolicy } from '../../core/renewal/plan.ts';
import { type Bind, type Database, idBytes, idText } from '../store/database.ts';
import type { ClientSecrets, CredentialsAtHand } from './client-secrets.ts';
import type { Definitions, DefinitionUse } from './definitions.ts';

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
  kind: GrantKind;
  /** The account in whose name a service account asks; null: none. */
  subject: string | null;
  definition: ProviderDefinition;
  scopes: string[];
  apiBaseUrl: string | null;
  /** Origins that nobody confirmed: nothing is sent while there are any. */
  unconfirmed: string[];
  credentials: CredentialsAtHand;
}

export interface GrantContexts {
  of(grantIds: string[]): Promise<Map<string, GrantContext>>;
  /** The credentials of one client; none while an origin is unconfirmed. */
  credentialsOf(clientRecordId: string, definition: ProviderDefinition): Promise<CredentialsAtHand>;
}

/** True where a renewal may spend something that cannot be had again without a person. */
export const canSpend = (context: Pick<GrantContext, 'definition' | 'kind'>): boolean =>
  !isClientsOwn(context.kind) && !isKey(context.kind) && isSpendable(context.definition.dialect);

const NONE: CredentialsAtHand = { inOrder: [], unproved: null, unprovedFree: false, proved: new Set() };

export function grantContexts(database: Database, secrets: ClientSecrets, definitions: Definitions): GrantContexts {
  return {
    async of(grantIds) {
      const found = new Map<string, GrantContext>();
      if (grantIds.length === 0) return found;
      const bind: Bind[] = [];
      const list = grantIds.map((id) => `$${bind.push(idBytes(id))}`).join(', ');
      // From the grants inwards: left to itself, the optimizer starts at the few clients and reads all their connections.
      const rows = await database.select<
        DefinitionUse & {
          grant_id: Buffer;
          kind: string;
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
          auth_method: string | null;
          api_base_url: string | null;
          scopes: string;
          subject: string | null;
        }
      >(
        `SELECT g.id AS grant_id, g.kind, g.subject, g.scopes, g.api_base_url, k.id AS connection_id, k.name, k.intent, k.policy, k.last_used_at, COALESCE(g.placeholders, k.placeholders) AS own_placeholders, c.placeholders, c.id AS client_record, c.name AS client_name,
           c.client_id, c.health, c.held_until, c.environment, c.variant, c.rehearsal_port, c.auth_method, c.trusted_origins, p.version_id
         FROM grants g STRAIGHT_JOIN connections k ON k.id = g.connection_id STRAIGHT_JOIN clients c ON c.id = COALESCE(g.client_id, k.client_id) STRAIGHT_JOIN providers p ON p.id = c.provider_id WHERE g.id IN (${list})`,
        bind,
      );
      const byClient = new Map<string, Promise<CredentialsAtHand>>();
      for (const row of rows) {
        const { definition, unconfirmed } = await definitions(row);
        const clientKey = row.client_record.toString('hex');
        const method = (row.auth_method as ClientAuthenticationMethod | null) ?? chooseMethod(definition.server.token_endpoint_auth_methods_supported);
        if (!byClient.has(clientKey))
          byClient.set(clientKey, unconfirmed.length > 0 ? Promise.resolve(NONE) : secrets.of(idText(row.client_record), row.client_id, method));
        const grantId = idText(row.grant_id);
        found.set(grantId, {
          grantId,
          connectionId: idText(row.connection_id),
          connectionName: row.name,
          intent: row.intent,
          clientRecordId: idText(row.client_record),
          clientName: `${definition.name}/${row.client_name}`,
          clientHealth: row.health,
          clientHeldUntil: row.held_until?.getTime() ?? 0,
          policy: row.policy as RenewalPolicy,
          lastUsedAt: row.last_used_at?.getTime() ?? null,
          kind: row.kind as GrantKind,
          subject: row.subject,
          definition,
          scopes: JSON.parse(row.scopes) as string[],
          apiBaseUrl: row.api_base_url,
          unconfirmed,
          credentials: (await byClient.get(clientKey)) ?? NONE,
        });
      }
      return found;
    },
    async credentialsOf(clientRecordId, definition) {
      const [row] = await database.select<{ client_id: string | null; auth_method: string | null }>(
        'SELECT client_id, auth_method FROM clients WHERE id = $1',
        [idBytes(clientRecordId)],
      );
      const method =
        (row?.auth_method as ClientAuthenticationMethod | null | undefined) ?? chooseMethod(definition.server.token_endpoint_auth_methods_supported);
      return secrets.of(clientRecordId, row?.client_id ?? null, method);
    },
  };
}
