import { z } from 'zod';
import { bytes, flag, id, instant, json, number, orElse, orNull, text } from './column.ts';
import { type Database, idBytes, instantText } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const COLUMNS = {
  id: number,
  installationId: id,
  publicUrl: text,
  fingerprint: text,
  masterKeyName: text,
  keyCheck: bytes,
  held: flag,
  heldWhy: orNull(text),
  heldAt: orNull(instant),
  ownedAt: orNull(instant),
  answers: orElse(json<Record<string, string>>(z.record(z.string(), z.string())), {}),
  createdAt: instant,
  /** Authenticates the chains of the activity log. */
  activityKeySealed: orNull(bytes),
  masterKeyChangedAt: orNull(instant),
  /** Counts restores: of two installations of one origin the higher one owns the grants. */
  generation: number,
  /** Which restore made it; null: none. */
  restoreId: orNull(id),
  /** Where the installation answered whose backup was restored. */
  formerUrl: orNull(text),
  /** The restored copy to which this one gave way: a second copy of the same backup is told. */
  successorRestore: orNull(id),
  successorGeneration: orNull(number),
  /** Restored from a backup that was made to move: it takes the grants from its origin. */
  moves: flag,
  /** Restored for practice: it calls nobody. */
  practice: flag,
};
type InstallationRow = RowOf<typeof COLUMNS>;

/** The one row that describes this installation. */
export interface InstallationStore {
  read(): Promise<InstallationRow | null>;
  /** @throws {Fault} NAME_TAKEN: another replica was first */
  create(row: Omit<InstallationRow, 'id'>): Promise<void>;
  change(set: Partial<Omit<InstallationRow, 'id'>>): Promise<void>;
  /** Remembers to whom this one gave way, the first of each generation. */
  giveWay(generation: number, restore: string): Promise<void>;
  /** True: it was not held before. */
  hold(why: string): Promise<boolean>;
  /** Ends the hold: this server's database owns the grants from now on. @param generation at least; never less than now */
  own(fingerprint: string, generation?: number): Promise<void>;
  /** Rotating grants that were rejected without explanation, and those that were renewed, since `since` (epoch ms) and since the last `own`. */
  refusedAndRenewed(since: number): Promise<{ refused: number; renewed: number }>;
  /** What tells this database server from a copy of it: the cluster's ID, or host and data folder. */
  fingerprint(): Promise<string>;
}

const THE_ONE = 1;

export function installationStore(database: Database): InstallationStore {
  const table = defineTable(database, 'installations', COLUMNS, { primaryKey: ['id'] });
  return {
    read: () => table.find({ id: THE_ONE }),
    create: (row) => table.insert({ id: THE_ONE, ...row }),
    change: async (set) => void (await table.change({ id: THE_ONE }, set)),
    giveWay: async (generation, restore) =>
      void (await database.write(
        'UPDATE installations SET successor_restore = $1, successor_generation = $2 WHERE id = 1 AND (successor_generation IS NULL OR successor_generation < $3)',
        [idBytes(restore), generation, generation],
      )),
    hold: async (why) =>
      (await database.write('UPDATE installations SET held = 1, held_why = $1, held_at = UTC_TIMESTAMP(3) WHERE id = 1 AND held = 0', [why])) > 0,
    own: async (fingerprint, generation = 1) =>
      void (await database.write(
        `UPDATE installations
         SET held = 0, held_why = NULL, held_at = NULL, owned_at = UTC_TIMESTAMP(3), fingerprint = $1, generation = GREATEST(generation, $2)
         WHERE id = 1`,
        [fingerprint, generation],
      )),
    async refusedAndRenewed(since) {
      const [row] = await database.select<{ refused: number | bigint; renewed: number | bigint }>(
        `SELECT COALESCE(SUM(h.kind = 'action_needed'), 0) AS refused, COALESCE(SUM(h.kind = 'renewed'), 0) AS renewed
         FROM history h, installations i
         WHERE i.id = 1 AND h.at > $1 AND (i.owned_at IS NULL OR h.at > i.owned_at)
           AND (h.kind = 'action_needed' AND JSON_VALUE(h.data, '$.unexplained') = 1
             OR h.kind = 'renewed' AND JSON_VALUE(h.data, '$.rotated') = 1)`,
        [instantText(since)],
      );
      return { refused: Number(row?.refused ?? 0), renewed: Number(row?.renewed ?? 0) };
    },
    async fingerprint() {
      const [cluster] = await database.select<{ uuid: string | null }>(
        `SELECT VARIABLE_VALUE AS uuid FROM information_schema.GLOBAL_STATUS
         WHERE VARIABLE_NAME = 'wsrep_cluster_state_uuid' AND VARIABLE_VALUE RLIKE '[1-9a-f]'`,
      );
      if (cluster?.uuid) return cluster.uuid;
      const [place] = await database.select<{ fingerprint: string }>("SELECT SHA2(CONCAT(@@hostname, ':', @@datadir), 256) AS fingerprint");
      return place?.fingerprint ?? '';
    },
  };
}
