import { type Bind, type Database, idBytes, idText, instantText } from './database.ts';

/** One entry of the history. `data` holds figures and public names, never a secret. */
export interface HistoryRow {
  id: string;
  /** Epoch ms. */
  at: number;
  actor: string;
  kind: string;
  subject: string;
  says: string;
  data: Record<string, unknown>;
}

/** Which entries, newest first. */
export interface HistoryFilter {
  subject?: string | undefined;
  kind?: string | undefined;
  /** Epoch ms. */
  since?: number | undefined;
  /** Only what came before the entry with this id. */
  before?: string | undefined;
  /** Also renewals that went as planned. */
  renewals?: boolean | undefined;
  limit: number;
}

/** The history, append-only. */
export interface HistoryStore {
  /** Appends entries, once each: a repeat after a lost acknowledgement changes nothing. `routine`: a renewal that went as planned. */
  append(entries: readonly (HistoryRow & { routine: boolean })[]): Promise<void>;
  /** Null: `before` names no entry. */
  list(filter: HistoryFilter): Promise<HistoryRow[] | null>;
  /** Renewals of these subjects since then, newest first, at most so many rows. */
  renewals(subjects: readonly string[], since: number, most: number): Promise<{ subject: string; at: number }[]>;
  /** Entries of these kinds since then. */
  counts(kinds: readonly string[], since: number): Promise<Partial<Record<string, number>>>;
  /** Deletes renewals, or all entries, older than that, at most so many. How many it were. */
  deleteOld(what: 'renewals' | 'all', olderThanMs: number, most: number): Promise<number>;
}

export function historyStore(database: Database): HistoryStore {
  return {
    async append(entries) {
      const bind: Bind[] = [];
      const rows = entries.map((entry) => {
        const values = [
          ...[idBytes(entry.id), instantText(entry.at), entry.actor.slice(0, 80), entry.kind, entry.subject.slice(0, 200), entry.says.slice(0, 600)],
          ...[JSON.stringify(entry.data), Number(entry.routine)],
        ];
        return `(${values.map((value) => `$${bind.push(value)}`).join(', ')})`;
      });
      await database.write(`INSERT IGNORE INTO history (id, at, actor, kind, subject, says, data, routine) VALUES ${rows.join(', ')}`, bind);
    },
    async list({ subject, kind, since, before, renewals, limit }) {
      const bind: Bind[] = [];
      const all = [
        ...(subject ? [`subject = $${bind.push(subject)}`] : []),
        ...(kind ? [`kind = $${bind.push(kind)}`] : []),
        ...(since === undefined ? [] : [`at >= $${bind.push(instantText(since))}`]),
        ...(renewals || kind ? [] : ['routine = 0']),
      ];
      if (before !== undefined) {
        const [last] = await database.select<{ at: Date }>('SELECT at FROM history WHERE id = $1', [idBytes(before)]);
        if (!last) return null;
        const at = instantText(last.at.getTime());
        all.push(`(at < $${bind.push(at)} OR (at = $${bind.push(at)} AND id < $${bind.push(idBytes(before))}))`);
      }
      const where = all.length > 0 ? `WHERE ${all.join(' AND ')}` : '';
      const rows = await database.select<{ id: Buffer; at: Date; actor: string; kind: string; subject: string; says: string; data: string }>(
        `SELECT id, at, actor, kind, subject, says, data FROM history ${where}
         ORDER BY at DESC, id DESC LIMIT ${Math.floor(limit)}`,
        bind,
      );
      return rows.map((row) => ({ ...row, id: idText(row.id), at: row.at.getTime(), data: JSON.parse(row.data) as Record<string, unknown> }));
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
    deleteOld: (what, olderThanMs, most) =>
      database.write(
        `DELETE FROM history
         WHERE at < UTC_TIMESTAMP(3) - INTERVAL ${Math.floor(olderThanMs / 1000)} SECOND ${what === 'renewals' ? "AND kind = 'renewed'" : ''}
         LIMIT ${Math.floor(most)}`,
      ),
  };
}
