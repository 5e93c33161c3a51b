import type { z } from 'zod';
import type { ChooseScopes, ChosenScopes } from '../../api/providers.ts';
import { impliedScopes, operationsOf, scopesFor, weakerClient } from '../../core/clients/privilege.ts';
import type { Operation } from '../../core/provider/api.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { findProvider } from '../providers/index.ts';
import type { ClientRow } from '../store/clients.ts';
import { findClient } from './clients.ts';
import type { ClientParts } from './parts.ts';

/** A weaker client of the same provider and environment that would do for these operations, or null. */
export async function weakerClientFor(
  s: Pick<ClientParts, 'store'>,
  definition: ProviderDefinition,
  present: ClientRow,
  operations: Operation[],
): Promise<string | null> {
  if (operations.length === 0) return null;
  const atHand = (row: ClientRow) => ({ name: row.name, type: row.type, registered: row.registeredScopes });
  const others = (await s.store.clients.ofProvider(present.providerId)).filter(
    (row) => row.environment === present.environment && row.stage !== 'retired' && row.type === present.type,
  );
  return weakerClient(definition.scopes, atHand(present), others.map(atHand), operations);
}

/** The weakest scopes that these operations need, the alternatives, and a weaker client where one would do. */
export async function chooseScopes(s: ClientParts, provider: string, input: z.output<typeof ChooseScopes>): Promise<z.output<typeof ChosenScopes>> {
  const { definition } = await findProvider(s, provider);
  const operations = operationsOf(definition).filter((operation) => input.operations.includes(operation.id));
  const { scopes, chosen } = scopesFor(definition.scopes, operations);
  const client = input.client ? await findClient(s, provider, input.client) : null;
  return {
    scopes: [...new Set([...scopes, ...impliedScopes(definition.scopes)])],
    chosen: operations.map((operation) => ({ operation: operation.id, scopes: chosen[operation.id] ?? [], alternatives: operation.needs })),
    weaker_client: client ? await weakerClientFor(s, client.definition, client.record, operations) : null,
  };
}
