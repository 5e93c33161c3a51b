import { chooseMethod } from '../../core/oauth/client-authentication.ts';
import { type GrantKind, isClientsOwn, isKey } from '../../core/oauth/grant-kinds.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { isSpendable } from '../../core/provider/definition.ts';
import type { RenewalPolicy } from '../../core/renewal/plan.ts';
import { readGrantUse } from '../store/definition-uses.ts';
import { idText } from '../store/ids.ts';
import type { Store } from '../store/store.ts';
import type { ClientSecrets, CredentialsAtHand } from './credentials.ts';
import type { Definitions } from './definitions.ts';

/** What a request on behalf of a grant needs to know besides its tokens. */
export interface GrantContext {
  grantId: string;
  connectionId: string;
  connectionName: string;
  intent: string;
  clientRecordId: string;
  clientName: string;
  clientHealth: string;
  /** The provider asked this client to wait until then, epoch ms; 0: it did not. */
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

const NONE: CredentialsAtHand = { inOrder: [], unverified: null, unprovedFree: false, verified: new Set() };

export function grantContexts(store: Pick<Store, 'definitionUses' | 'clients'>, secrets: ClientSecrets, definitions: Definitions): GrantContexts {
  return {
    async of(grantIds) {
      const found = new Map<string, GrantContext>();
      if (grantIds.length === 0) return found;
      const rows = await store.definitionUses.ofGrants(grantIds);
      const byClient = new Map<string, Promise<CredentialsAtHand>>();
      for (const row of rows) {
        const { definition, unconfirmed } = await definitions(row);
        const clientRecordId = idText(row.client_record);
        const use = readGrantUse(row);
        const method = use.authMethod ?? chooseMethod(definition.server.token_endpoint_auth_methods_supported);
        if (!byClient.has(clientRecordId))
          byClient.set(clientRecordId, unconfirmed.length > 0 ? Promise.resolve(NONE) : secrets.of(clientRecordId, row.client_id, method));
        found.set(use.grantId, {
          ...use,
          clientRecordId,
          clientName: `${definition.name}/${row.client_name}`,
          definition,
          unconfirmed,
          credentials: (await byClient.get(clientRecordId)) ?? NONE,
        });
      }
      return found;
    },
    async credentialsOf(clientRecordId, definition) {
      const client = await store.clients.byId(clientRecordId);
      const method = client?.authMethod ?? chooseMethod(definition.server.token_endpoint_auth_methods_supported);
      return secrets.of(clientRecordId, client?.clientId ?? null, method);
    },
  };
}
