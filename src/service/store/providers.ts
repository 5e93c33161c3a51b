import { LRUCache } from 'lru-cache';
import { z } from 'zod';
import { type ProviderDefinition, storedDefinition } from '../../core/provider/definition.ts';
import { boundedCache } from '../bounded-cache.ts';
import { id, instant, json, number, text } from './column.ts';
import { type Database, idBytes } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const PROVIDER = { id, name: text, title: text, versionId: id, revision: number, createdAt: instant };
const VERSION = { id, providerId: id, document: json(z.record(z.string(), z.unknown())), digest: text, createdAt: instant, createdBy: text };
export type ProviderRow = RowOf<typeof PROVIDER>;
type ProviderVersionRow = RowOf<typeof VERSION>;
/** A provider with the version of its definition that is in use. */
export interface ProviderWithDefinition {
  record: ProviderRow;
  definition: ProviderDefinition;
  digest: string;
}
const VERSIONS_KEPT = 500;
type NewVersion = Omit<ProviderVersionRow, 'document'> & { document: ProviderDefinition };

/** Providers and every version of their definitions. */
export interface ProviderStore {
  byName(name: string): Promise<ProviderRow | null>;
  byId(providerId: string): Promise<ProviderRow | null>;
  /** By name. */
  all(): Promise<ProviderRow[]>;
  /** Its definition as it is in use; null: there is no such provider. */
  inUse(name: string): Promise<ProviderWithDefinition | null>;
  /** The definition of a version; null: there is none. */
  definition(versionId: string): Promise<ProviderDefinition | null>;
  /** Oldest first. */
  versions(providerId: string): Promise<ProviderVersionRow[]>;
  add(provider: ProviderRow, version: NewVersion): Promise<void>;
  /**
   * Makes a further version the current one. `trusted`: origins of clients that were kept without any, each by the ID of its client.
   * @returns false where the provider has another revision by now; then nothing was changed
   */
  revise(provider: { id: string; title: string; revision: number }, version: NewVersion, trusted: ReadonlyMap<string, string[]>): Promise<boolean>;
  remove(providerId: string): Promise<void>;
  /** How many clients each provider has, by its name. */
  countClients(): Promise<Map<string, number>>;
}

export function providerStore(database: Database): ProviderStore {
  const providers = defineTable(database, 'providers', PROVIDER, { primaryKey: ['id'] });
  const versions = defineTable(database, 'provider_versions', VERSION, { primaryKey: ['id'] });
  /** A version never changes: it is read and checked once, however often it is asked for. */
  const parsed = new LRUCache<string, Pick<ProviderWithDefinition, 'definition' | 'digest'>>(boundedCache(VERSIONS_KEPT));
  const versionOf = async (versionId: string): Promise<Pick<ProviderWithDefinition, 'definition' | 'digest'> | null> => {
    const kept = parsed.get(versionId);
    if (kept) return kept;
    const version = await versions.find({ id: versionId });
    if (!version) return null;
    const read = { definition: storedDefinition(version.document), digest: version.digest };
    parsed.set(versionId, read);
    return read;
  };
  const definition: ProviderStore['definition'] = async (versionId) => (await versionOf(versionId))?.definition ?? null;
  return {
    byName: (name) => providers.find({ name }),
    byId: (providerId) => providers.find({ id: providerId }),
    all: () => providers.list({}, { orderBy: 'name' }),
    async inUse(name) {
      const record = await providers.find({ name });
      const version = record && (await versionOf(record.versionId));
      return record && version ? { record, ...version } : null;
    },
    definition,
    versions: (providerId) => versions.list({ providerId }, { orderBy: 'createdAt' }),
    add: (provider, version) =>
      database.transaction(async (transaction) => {
        await providers.insert(provider, transaction);
        await versions.insert(version, transaction);
      }),
    async revise(provider, version, trusted) {
      const { id: providerId, title, revision } = provider;
      return database.attempt(async (transaction) => {
        await versions.insert(version, transaction);
        for (const [clientId, origins] of trusted)
          await database.write(
            'UPDATE clients SET trusted_origins = $1 WHERE id = $2 AND trusted_origins IS NULL',
            [JSON.stringify(origins), idBytes(clientId)],
            transaction,
          );
        return (await providers.change({ id: providerId, revision }, { versionId: version.id, title, revision: revision + 1 }, transaction)) > 0;
      });
    },
    remove: async (providerId) => void (await providers.remove({ id: providerId })),
    async countClients() {
      const rows = await database.select<{ name: string; n: number | bigint }>(
        'SELECT p.name, COUNT(c.id) AS n FROM providers p LEFT JOIN clients c ON c.provider_id = p.id GROUP BY p.name',
      );
      return new Map(rows.map((row) => [row.name, Number(row.n)]));
    },
  };
}
