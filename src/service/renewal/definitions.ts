import { LRUCache } from 'lru-cache';
import { Fault } from '../../core/fault.ts';
import { type Environment, type ProviderDefinition, storedDefinition, unconfirmedOrigins, withVariant } from '../../core/provider/definition.ts';
import { fillKnown, type PlaceholderValues } from '../../core/provider/placeholders.ts';
import { rehearsed } from '../../core/provider/rehearsal.ts';
import type { Database } from '../store/database.ts';

/**
 * Which version of a definition, and as whom: a client's environment, variant and values, and a connection's, as a row of the database
 * has them. JSON stays text, so that a row of a batch is looked up without reading it.
 */
export interface DefinitionUse {
  version_id: Buffer;
  environment: string;
  variant: string | null;
  /** Where a simulated provider stands in for the real one, on loopback. */
  rehearsal_port: number | null;
  placeholders: string;
  /** Of the connection. */
  own_placeholders: string | null;
  /** The origins that an operator has seen and confirmed for the client; null: none were kept, and all are trusted. */
  trusted_origins: string | null;
}

export interface DefinitionInUse {
  definition: ProviderDefinition;
  /** Origins to which a secret or token would go, and that nobody confirmed for this client. */
  unconfirmed: string[];
}

/** Definitions, filled with the values of whoever uses them. They never change under their version id, so they are kept. */
export type Definitions = (use: DefinitionUse) => Promise<DefinitionInUse>;

export function definitions(database: Database): Definitions {
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
      const [row] = await database.select<{ document: string }>('SELECT document FROM provider_versions WHERE id = $1', [use.version_id]);
      if (!row) throw new Fault('INTERNAL', { detail: 'A version of a definition is missing.' });
      whole = storedDefinition(JSON.parse(row.document));
      read.set(version, whole);
    }
    const [clientValues, connectionValues] = [use.placeholders, use.own_placeholders].map((text) => JSON.parse(text ?? '{}') as PlaceholderValues);
    const ofClient = fillKnown(rehearsed(withVariant(whole, use.environment as Environment, use.variant), use.rehearsal_port), clientValues ?? {});
    const inUse: DefinitionInUse = {
      definition: fillKnown(ofClient, { ...clientValues, ...connectionValues }),
      unconfirmed: unconfirmedOrigins(ofClient, JSON.parse(use.trusted_origins ?? 'null') as string[] | null),
    };
    filled.set(key, inUse);
    return inUse;
  };
}
