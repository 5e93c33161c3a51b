import { REHEARSAL_STATES } from '../../api/rehearsals.ts';
import { GRANT_KINDS } from '../../core/oauth/grant-kinds.ts';
import { RehearsalReport } from '../../core/rehearsals/report.ts';
import { SCENARIOS } from '../../core/rehearsals/scenarios.ts';
import { POLICIES } from '../../core/renewal/plan.ts';
import { flag, id, instant, json, number, oneOf, orElse, orNull, rowReader, text, textList, textMap, words } from './column.ts';
import { type Bind, type Database, idBytes, idText, intervalText } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const COLUMNS = {
  id,
  scenario: oneOf(SCENARIOS),
  providers: textList,
  act: flag,
  state: oneOf(REHEARSAL_STATES),
  startedBy: text,
  startedAt: instant,
  endedAt: orNull(instant),
  percent: number,
  doing: text,
  /** Until when whoever plays it is taken to be there. */
  busyUntil: orNull(instant),
  report: orNull(json(RehearsalReport)),
};
export type RehearsalRow = RowOf<typeof COLUMNS>;

const REHEARSED = {
  ...{ name: text, scopes: textList, placeholders: orElse(textMap, {}), operations: orElse(textList, []), labels: words },
  ...{ policy: oneOf(POLICIES), shared: flag, kind: orNull(oneOf(GRANT_KINDS)) },
};
type RehearsedConnection = RowOf<typeof REHEARSED>;
const readRehearsed = rowReader('connections', REHEARSED, 'name');
const MAX_ROWS = 2_000;

/** Rehearsals and their reports. Instants are epoch ms. */
export interface RehearsalStore {
  /** The newest first. */
  list(most: number): Promise<RehearsalRow[]>;
  byId(rehearsalId: string): Promise<RehearsalRow | null>;
  /** False: one is running, here or on another replica. */
  begin(row: RehearsalRow): Promise<boolean>;
  /** While it runs. False: it was canceled. */
  goOn(rehearsalId: string, set: Pick<RehearsalRow, 'percent' | 'doing'>, busyMs: number): Promise<boolean>;
  end(rehearsalId: string, set: Pick<RehearsalRow, 'state' | 'doing' | 'endedAt' | 'report'>): Promise<boolean>;
  /** Those whose player is gone count as failed; `but` those. */
  endAbandoned(says: string, but: readonly string[]): Promise<void>;
  /** Keeps the newest. */
  keep(most: number): Promise<void>;
  /** Active connections of a client that hold tokens, or are shared: the first by name, and how many there are. */
  connectionsOf(clientId: string, most: number): Promise<{ items: RehearsedConnection[]; total: number }>;
  /** What a caller may use by name, as far as it is among these connections, and by label; when its last key expires (null: never). */
  permissionsAmong(names: readonly string[]): Promise<{ caller: string; connections: string[]; labels: string[]; keyEndsAt: number | null }[]>;
  /** Whether anything of this installation is due or under way: time may move when nothing is. */
  underWay(): Promise<boolean>;
}

export function rehearsalStore(database: Database): RehearsalStore {
  const table = defineTable(database, 'rehearsals', COLUMNS, { primaryKey: ['id'] });
  return {
    async list(most) {
      const rows = await database.select<{ id: Buffer }>(`SELECT id FROM rehearsals ORDER BY id DESC LIMIT ${Math.floor(most)}`);
      const found = rows.length === 0 ? [] : await table.list({ id: rows.map((row) => idText(row.id)) });
      return found.sort((a, b) => (a.id < b.id ? 1 : -1));
    },
    byId: (rehearsalId) => table.find({ id: rehearsalId }),
    begin: (row) =>
      database.attempt(async (transaction) => {
        const [running] = await database.select("SELECT id FROM rehearsals WHERE state = 'running' LIMIT 1 FOR UPDATE", [], transaction);
        if (running) return false;
        await table.insert(row, transaction);
        return true;
      }),
    goOn: async (rehearsalId, { percent, doing }, busyMs) =>
      (await database.write(
        `UPDATE rehearsals SET percent = $1, doing = $2, busy_until = UTC_TIMESTAMP(3) + ${intervalText(busyMs)} WHERE id = $3 AND state = 'running'`,
        [percent, doing, idBytes(rehearsalId)],
      )) > 0,
    end: async (rehearsalId, set) => (await table.change({ id: rehearsalId, state: 'running' }, { ...set, busyUntil: null })) > 0,
    async endAbandoned(says, but) {
      const bind: Bind[] = [says];
      const others = but.map((one) => ` AND id <> $${bind.push(idBytes(one))}`).join('');
      await database.write(
        `UPDATE rehearsals SET state = 'failed', doing = $1, ended_at = UTC_TIMESTAMP(3), busy_until = NULL
         WHERE state = 'running' AND busy_until < UTC_TIMESTAMP(3)${others}`,
        bind,
      );
    },
    keep: async (most) =>
      void (await database.write(
        `DELETE FROM rehearsals WHERE state <> 'running' AND id NOT IN (SELECT id FROM (SELECT id FROM rehearsals ORDER BY id DESC LIMIT ${Math.floor(most)}) newest)`,
      )),
    async connectionsOf(clientId, most) {
      const condition = `k.client_id = $1 AND k.person_of IS NULL AND k.intent = 'active' AND (k.current_grant_id IS NOT NULL OR k.shared = 1)`;
      const bind = [idBytes(clientId)];
      const rows = await database.select(
        `SELECT k.name, k.scopes, k.placeholders, k.operations, k.policy, k.shared, g.kind,
           (SELECT GROUP_CONCAT(l.label ORDER BY l.label SEPARATOR ' ') FROM connection_labels l WHERE l.connection_id = k.id) AS labels
         FROM connections k LEFT JOIN grants g ON g.id = k.current_grant_id WHERE ${condition} ORDER BY k.name LIMIT ${Math.floor(most)}`,
        bind,
      );
      const [count] = await database.select<{ n: number | bigint }>(`SELECT COUNT(*) AS n FROM connections k WHERE ${condition}`, bind);
      return { items: rows.map(readRehearsed), total: Number(count?.n ?? 0) };
    },
    async permissionsAmong(names) {
      if (names.length === 0) return [];
      const bind: Bind[] = [];
      const places = names.map((name) => `$${bind.push(name)}`).join(', ');
      const rows = await database.select<{ caller: string; connection: string | null; label: string | null; ends_at: Date | null; lasting: number }>(
        `SELECT c.name AS caller, k.name AS connection, p.label,
           (SELECT MAX(y.ends_at) FROM caller_keys y WHERE y.caller_id = c.id AND y.ends_at > UTC_TIMESTAMP(3)) AS ends_at,
           EXISTS (SELECT 1 FROM caller_keys y WHERE y.caller_id = c.id AND y.ends_at IS NULL) AS lasting
         FROM permissions p JOIN callers c ON c.id = p.caller_id LEFT JOIN connections k ON k.id = p.connection_id
         WHERE k.name IN (${places})
            OR p.label IN (SELECT l.label FROM connection_labels l JOIN connections o ON o.id = l.connection_id WHERE o.name IN (${places}))
         ORDER BY c.name, k.name LIMIT ${MAX_ROWS}`,
        bind,
      );
      const found = new Map<string, { caller: string; connections: string[]; labels: string[]; keyEndsAt: number | null }>();
      for (const row of rows) {
        const keyEndsAt = Number(row.lasting) > 0 ? null : (row.ends_at?.getTime() ?? null);
        const one = found.get(row.caller) ?? { caller: row.caller, connections: [], labels: [], keyEndsAt };
        found.set(row.caller, one);
        if (row.connection !== null) one.connections.push(row.connection);
        if (row.label !== null) one.labels.push(row.label);
      }
      return [...found.values()];
    },
    async underWay() {
      const [row] = await database.select<{ busy: number }>(
        `SELECT EXISTS (SELECT 1 FROM renewals WHERE ended = 0 AND (next_at <= UTC_TIMESTAMP(3) OR lease_until > UTC_TIMESTAMP(3)))
             OR EXISTS (SELECT 1 FROM jobs WHERE enabled = 1 AND next_run_at <= UTC_TIMESTAMP(3))
             OR EXISTS (SELECT 1 FROM runs WHERE state IN ('running', 'waiting') AND (next_at <= UTC_TIMESTAMP(3) OR lease_until > UTC_TIMESTAMP(3)))
             OR EXISTS (SELECT 1 FROM connections WHERE check_state_at <= UTC_TIMESTAMP(3))
             OR EXISTS (SELECT 1 FROM consents WHERE finished_at IS NULL AND expires_at > UTC_TIMESTAMP(3) AND phase IN ('exchanging', 'verifying', 'proving')) AS busy`,
      );
      return Number(row?.busy ?? 0) > 0;
    },
  };
}
