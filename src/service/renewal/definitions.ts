import { LRUCache } from 'lru-cache';
import { Fault } from '../../core/fault.ts';
import { type ProviderDefinition, unconfirmedOrigins, withVariant } from '../../core/provider/definition.ts';
import type { Environment } from '../../core/provider/kinds.ts';
import type { PlaceholderValues } from '../../core/provider/placeholder-text.ts';
import { fillKnown } from '../../core/provider/placeholders.ts';
import { rehearsed } from '../../core/provider/rehearsal.ts';
import { type DefinitionUse, readUse } from '../store/definition-uses.ts';
import { idText } from '../store/ids.ts';
import type { ProviderStore } from '../store/providers.ts';

interface DefinitionInUse {
  definition: ProviderDefinition;
  /** Of the placeholders, by client and connection. */
  values: PlaceholderValues;
  environment: Environment;
  /** Origins to which a secret or token would go, and that nobody confirmed for this client. */
  unconfirmed: string[];
}

/** Definitions, filled with the values of whoever uses them. They never change under their version id, so they are kept. */
export type Definitions = (use: DefinitionUse) => Promise<DefinitionInUse>;

export function definitions(providers: Pick<ProviderStore, 'definition'>): Definitions {
  const read = new LRUCache<string, ProviderDefinition>({ max: 300 });
  const filled = new LRUCache<string, DefinitionInUse>({ max: 5_000 });
  return async (use) => {
    const version = use.version_id.toString('hex');
    // None of these can hold a line break: each is a word, or JSON on one line.
    const key = `${version}\n${use.environment}\n${use.variant}\n${use.rehearsal_port}\n${use.placeholders}\n${use.own_placeholders}\n${use.trusted_origins}`;
    const kept = filled.get(key);
    if (kept) return kept;
    let whole = read.get(version);
    if (!whole) {
      const found = await providers.definition(idText(use.version_id));
      if (!found) throw new Fault('INTERNAL', { detail: 'A version of a definition is missing.' });
      whole = found;
      read.set(version, whole);
    }
    const { environment, placeholders, ownPlaceholders, trustedOrigins } = readUse(use);
    const ofClient = fillKnown(rehearsed(withVariant(whole, environment, use.variant), use.rehearsal_port), placeholders);
    const values = { ...placeholders, ...ownPlaceholders };
    const inUse: DefinitionInUse = { definition: fillKnown(ofClient, values), values, environment, unconfirmed: unconfirmedOrigins(ofClient, trustedOrigins) };
    filled.set(key, inUse);
    return inUse;
  };
}
