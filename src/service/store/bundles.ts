import { BUNDLE_KINDS, type BundleKind } from '../../core/bundle/bundle.ts';
import { instant, oneOf, text } from './column.ts';
import type { Database } from './database.ts';
import { defineTable } from './table.ts';

const COLUMNS = { kind: oneOf(BUNDLE_KINDS), name: text, digest: text, importedBy: text, importedAt: instant };

/** What of each object the last import brought: an edit by hand since then is seen by it. */
export interface BundleStore {
  /** Digests by `kind:name`. */
  remembered(): Promise<Map<string, string>>;
  remember(objects: readonly { kind: BundleKind; name: string; digest: string }[], by: string, at: number): Promise<void>;
  forget(kind: BundleKind, name: string): Promise<void>;
}

export function bundleStore(database: Database): BundleStore {
  const table = defineTable(database, 'bundle_objects', COLUMNS, { primaryKey: ['kind', 'name'] });
  return {
    remembered: async () => new Map((await table.list()).map((row) => [`${row.kind}:${row.name}`, row.digest])),
    async remember(objects, importedBy, importedAt) {
      for (const { kind, name, digest } of objects) {
        await table.remove({ kind, name });
        await table.insert({ kind, name, digest, importedBy, importedAt });
      }
    },
    forget: async (kind, name) => void (await table.remove({ kind, name })),
  };
}
