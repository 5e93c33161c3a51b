import type { ChainedEntry, ChainPoint } from '../../core/activity/chain.ts';
import { document, id, instant, orNull, type RowOf, rowReader, text } from './column.ts';
import { type Bind, type Database, idBytes, instantText } from './database.ts';

const ENTRY = {
  id,
  at: instant,
  actor: text,
  kind: text,
  subject: text,
  says: text,
  data: document,
  /** The request in whose course it was done; null: the service began it. */
  requestId: orNull(text),
  address: orNull(text),
};
/** One entry of the activity log. `data` holds figures and public names, never a secret. */
export type HistoryRow = RowOf<typeof ENTRY>;
const readEntry = rowReader('history', ENTRY, 'id');
/** As it is written, with its place in a chain. `routine`: a renewal that went as planned, kept for a shorter time and not shown by default. */
export interface EntryToAppend extends ChainedEntry {
  chainId: string;
}
/** How far a chain has come, authenticated by a key that is not in the database. */
interface ChainHead {
  chainId: string;
  /** Of routine renewals; else of all other entries. */
  routine: boolean;
  point: ChainPoint;
  proof: Buffer;
}

/** Which entries, newest first. */
export interface HistoryFilter {
  subject?: string | undefined;
  kind?: string | undefined;
  actor?: string | undefined;
  /** Epoch ms. */
  since?: number | undefined;
  until?: number | undefined;
  /** Only what came before the entry with this id. */
  before?: string | undefined;
  /** Also renewals that went as planned. */
  renewals?: boolean | undefined;
  limit: number;
}

/** Entries are cut to the length of their columns before they are hashed. */
export const ENTRY_LIMITS = { actor: 80, kind: 40, subject: 200, says: 600, requestId: 40, address: 64 } as const;

/** The activity log, append-only. */
export interface HistoryStore {
  /** Appends entries and moves the heads of their chains, both or neither. A repeat after a lost acknowledgement changes nothing. */
  append(entries: readonly EntryToAppend[], heads: readonly ChainHead[]): Promise<void>;
  /** Null: `before` names no entry. */
  list(filter: HistoryFilter): Promise<HistoryRow[] | null>;
  /** Renewals of these subjects since then, newest first, at most so many rows. */
  renewals(subjects: readonly string[], since: number, most: number): Promise<{ subject: string; at: number }[]>;
  /** Entries of these kinds since then. */
  counts(kinds: readonly string[], since: number): Promise<Partial<Record<string, number>>>;
}

export function historyStore(database: Database): HistoryStore {
  return {
    append: (entries, heads) =>
      database.transaction(async (transaction) => {
        const bind: Bind[] = [];
        const rows = entries.map((entry) => {
          const values = [
            ...[idBytes(entry.id), instantText(entry.at), entry.actor, entry.kind, entry.subject, entry.says, entry.data, Number(entry.routine)],
            ...[entry.requestId, entry.address, idBytes(entry.chainId), entry.sequence, entry.hash],
          ];
          return `(${values.map((value) => `$${bind.push(value)}`).join(', ')})`;
        });
        await database.write(
          `INSERT IGNORE INTO history (id, at, actor, kind, subject, says, data, routine, request_id, address, chain_id, sequence, hash) VALUES ${rows.join(', ')}`,
          bind,
          transaction,
        );
        for (const { chainId, routine, point, proof } of heads)
          await database.write(
            `INSERT INTO history_chains (id, routine, started_at, base_sequence, head_sequence, head_hash, head_proof)
             VALUES ($1, $2, UTC_TIMESTAMP(3), 0, $3, $4, $5) ON DUPLICATE KEY UPDATE head_sequence = $3, head_hash = $4, head_proof = $5`,
            [idBytes(chainId), Number(routine), point.sequence, point.hash, proof],
            transaction,
          );
      }),
    async list({ subject, kind, actor, since, until, before, renewals, limit }) {
      const bind: Bind[] = [];
      const all = [
        ...(subject ? [`subject = $${bind.push(subject)}`] : []),
        ...(kind ? [`kind = $${bind.push(kind)}`] : []),
        ...(actor ? [`actor = $${bind.push(actor)}`] : []),
        ...(since === undefined ? [] : [`at >= $${bind.push(instantText(since))}`]),
        ...(until === undefined ? [] : [`at < $${bind.push(instantText(until))}`]),
        ...(renewals || kind ? [] : ['routine = 0']),
      ];
      if (before !== undefined) {
        const [last] = await database.select<{ at: Date }>('SELECT at FROM history WHERE id = $1', [idBytes(before)]);
        if (!last) return null;
        const at = instantText(last.at.getTime());
        all.push(`at <= $${bind.push(at)}`, `(at < $${bind.push(at)} OR id < $${bind.push(idBytes(before))})`);
      }
      const where = all.length > 0 ? `WHERE ${all.join(' AND ')}` : '';
      const rows = await database.select(
        `SELECT id, at, actor, kind, subject, says, data, request_id AS requestId, address FROM history ${where}
         ORDER BY at DESC, id DESC LIMIT ${Math.floor(limit)}`,
        bind,
      );
      return rows.map(readEntry);
    },
    async renewals(subjects, since, most) {
      const bind: Bind[] = [instantText(since)];
      const list = subjects.map((subject) => `$${bind.push(subject)}`).join(', ');
      const rows = await database.select<{ subject: string; at: Date }>(
        `SELECT subject, at FROM history
         WHERE subject IN (${list}) AND at > $1 AND kind = 'renewed'
         ORDER BY at DESC LIMIT ${Math.floor(most)}`,
        bind,
      );
      return rows.map((row) => ({ subject: row.subject, at: row.at.getTime() }));
    },
    async counts(kinds, since) {
      const bind: Bind[] = [instantText(since)];
      const list = kinds.map((kind) => `$${bind.push(kind)}`).join(', ');
      const rows = await database.select<{ kind: string; n: number | bigint }>(
        `SELECT kind, COUNT(*) AS n FROM history WHERE at > $1 AND kind IN (${list}) GROUP BY kind`,
        bind,
      );
      return Object.fromEntries(rows.map((row) => [row.kind, Number(row.n)]));
    },
  };
}
