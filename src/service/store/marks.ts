import { z } from 'zod';
import type { Mark } from '../../core/renewal/ground.ts';
import { id, instant, json, orNull, text } from './column.ts';
import { type Bind, type Database, idBytes, idText, intervalText } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

/** Two statements of a kind run at once; first tokens have a row of their own. */
const LANES = 3;
const FIRST_TOKENS = 2;

/** One row of marks, for one statement. */
export interface Raising {
  instance: Buffer;
  lane: number;
  done(outcome: 'raised' | 'none' | 'unknown'): void;
}

/**
 * What this process knows of marks, for the statements that raise them and those that want them. An answer that is saved raises a mark, and so does
 * a request that is armed: of one that is under way the database knows nothing else. Nothing is counted before `begin`: a restore and a
 * rehearsal have no replica.
 */
export interface SaveCount {
  begin(instanceId: string, known: number): void;
  /** Own saves and arms that the database has acknowledged. */
  known(): number;
  /** Others', as last seen. */
  others(marks: number): void;
  /** A row for one statement; null: nothing is counted. */
  take(kind: 'save' | 'arm' | 'first'): Raising | null;
  /** What the database must have, for a claim; null: nothing is counted. */
  wanted(): number | null;
  /** Whether a statement ended without an acknowledgement, or the database was not reached: what it has must be looked at before a claim. */
  isInDoubt(): boolean;
  doubt(): void;
  /** Before the marks are read: what is under way then may be in them, and is acknowledged later. */
  reading(): { underWay: number; taken: number };
  /** The marks were read: the database has so many of this replica. */
  settled(marks: number, since: { underWay: number; taken: number }): void;
}

export function saveCount(): SaveCount {
  let instance: Buffer | null = null;
  let [known, others, doubts, settledAt, underWay, taken] = [0, 0, 0, 0, 0, 0];
  const free = { save: [0, 1], arm: [0, 1], first: [FIRST_TOKENS] };
  return {
    begin(instanceId, from) {
      instance = idBytes(instanceId);
      known = from;
    },
    known: () => known,
    others(marks) {
      others = marks;
    },
    take(kind) {
      if (instance === null) return null;
      [underWay, taken] = [underWay + 1, taken + 1];
      const lane = kind === 'first' ? FIRST_TOKENS : (free[kind].pop() ?? 0);
      return {
        instance,
        lane,
        done(outcome) {
          underWay -= 1;
          if (kind !== 'first' && !free[kind].includes(lane)) free[kind].push(lane);
          if (outcome === 'raised') known += 1;
          if (outcome === 'unknown') doubts += 1;
        },
      };
    },
    wanted: () => instance && known + others,
    isInDoubt: () => doubts > settledAt,
    doubt() {
      doubts += 1;
    },
    reading: () => ({ underWay, taken }),
    settled(marks, since) {
      settledAt = doubts;
      // What was under way meanwhile counts itself when it is acknowledged.
      known = Math.max(known, marks - since.underWay - (taken - since.taken));
    },
  };
}

/** All marks there are: what `wanted` is compared with. A plain read takes no lock. */
export const ALL_MARKS = '((SELECT COALESCE(SUM(k.mark), 0) FROM marks k) + (SELECT COALESCE(SUM(a.mark), 0) FROM arm_marks a))';
/** Joined to what a save or an arm changes. */
export const raised = (kind: 'save' | 'arm', { instance, lane }: Raising, place: (value: Bind) => string): string =>
  `JOIN ${kind === 'arm' ? 'arm_marks' : 'marks'} k ON k.instance_id = ${place(instance)} AND k.lane = ${place(lane)}`;

const LOSS = { id, noticedAt: instant, noticedBy: id, why: text, endedAt: orNull(instant), endedBy: orNull(text) };
export type LossRow = RowOf<typeof LOSS>;

/** A connection that may have lost something, and why. */
const Suspect = z.object({ connection: z.string().nullable(), says: z.string() });
export const LossReport = z.object({
  /** Replicas that lost saves, as far as this one knows. */
  lost: z.array(z.string()),
  putBack: z.number(),
  restored: z.number(),
  /** Client secrets and caller keys that were added or retired again, and grants that were ended again. */
  entered: z.number().default(0),
  /** The earliest answer that was lost, epoch ms. */
  since: z.number().nullable(),
  suspects: z.array(Suspect),
});
export type LossReport = z.output<typeof LossReport>;
const REPORT = { lossId: id, instanceId: id, at: instant, report: json(LossReport) };
type LossReportRow = RowOf<typeof REPORT>;

/** Marks of replicas, and what became of times at which the database went back. Instants are epoch ms. */
export interface MarkStore {
  count: SaveCount;
  /** Makes the rows of this replica where there are none; the number of saves and arms that the database has. */
  begin(instanceId: string): Promise<number>;
  /** Of all replicas. `seenAt`: the last heartbeat; null: none. */
  read(): Promise<(Mark & { seenAt: number | null; isStopped: boolean })[]>;
  /** After all is put back: the mark is what is known. */
  raiseTo(instanceId: string, known: number): Promise<void>;
  /** Accepts the loss: what replicas reported and the database lacks counts no longer. */
  forgive(): Promise<void>;
  /** The loss that is not settled; null: none. */
  open(): Promise<LossRow | null>;
  /** The one that ended last. */
  last(): Promise<LossRow | null>;
  /** Writes down that the database went back, unless someone did already. */
  notice(row: Pick<LossRow, 'id' | 'noticedBy' | 'why'>): Promise<LossRow>;
  report(lossId: string, instanceId: string, report: LossReport): Promise<void>;
  reports(lossId: string): Promise<LossReportRow[]>;
  /** False: it was ended already. */
  end(lossId: string, by: string): Promise<boolean>;
  /** Deletes losses that ended so long ago, with their reports. */
  deleteOld(keptMs: number): Promise<void>;
  /** When each table of the protocol was made, epoch ms. */
  tables(): Promise<Map<string, number>>;
  /** Identifies a server: its name, its data folder and its number. */
  server(): Promise<string>;
}

/** Marks of saves and of arms together. */
const BOTH = '(SELECT instance_id, mark FROM marks UNION ALL SELECT instance_id, mark FROM arm_marks)';

export function markStore(database: Database, count: SaveCount): MarkStore {
  const losses = defineTable(database, 'losses', LOSS, { primaryKey: ['id'] });
  const reports = defineTable(database, 'loss_reports', REPORT, { primaryKey: ['lossId', 'instanceId'] });
  const marksOf = async (instanceId: string): Promise<number> => {
    const [row] = await database.select<{ marks: number | bigint | string | null }>(`SELECT SUM(mark) AS marks FROM ${BOTH} b WHERE instance_id = $1`, [
      idBytes(instanceId),
    ]);
    return Number(row?.marks ?? 0);
  };
  const open: MarkStore['open'] = async () => (await losses.list({ endedAt: null }, { orderBy: 'noticedAt', limit: 1 }))[0] ?? null;
  return {
    count,
    async begin(instanceId) {
      const rows = Array.from({ length: LANES }, (_one, lane) => `($1, ${lane}, 0)`).join(', ');
      for (const table of ['marks', 'arm_marks'])
        await database.write(`INSERT IGNORE INTO ${table} (instance_id, lane, mark) VALUES ${rows}`, [idBytes(instanceId)]);
      return marksOf(instanceId);
    },
    async read() {
      const rows = await database.select<{ instance_id: Buffer; mark: unknown; reported: unknown; seen_at: Date | null; stopped: unknown }>(
        `SELECT k.instance_id, SUM(k.mark) AS mark, COALESCE(p.reported, 0) AS reported, p.seen_at, COALESCE(p.stopped, 1) AS stopped
         FROM ${BOTH} k LEFT JOIN (
           SELECT instance_id, MAX(known_mark) AS reported, MAX(seen_at) AS seen_at, MIN(roles = 'stopped') AS stopped FROM replicas GROUP BY instance_id
         ) p ON p.instance_id = k.instance_id
         GROUP BY k.instance_id`,
      );
      return rows.map((row) => ({
        ...{ instance: idText(row.instance_id), mark: Number(row.mark), reported: Number(row.reported) },
        ...{ seenAt: row.seen_at?.getTime() ?? null, isStopped: Number(row.stopped) === 1 },
      }));
    },
    async raiseTo(instanceId, known) {
      const present = await marksOf(instanceId);
      if (present < known)
        await database.write('UPDATE marks SET mark = mark + $1 WHERE instance_id = $2 AND lane = 0', [known - present, idBytes(instanceId)]);
    },
    forgive: async () =>
      void (await database.write(
        `UPDATE replicas p SET p.known_mark = LEAST(p.known_mark, COALESCE((SELECT SUM(k.mark) FROM ${BOTH} k WHERE k.instance_id = p.instance_id), 0))`,
      )),
    open,
    last: async () => {
      const [row] = await database.select<{ id: Buffer }>('SELECT id FROM losses WHERE ended_at IS NOT NULL ORDER BY ended_at DESC LIMIT 1');
      return row ? losses.find({ id: idText(row.id) }) : null;
    },
    async notice({ id: lossId, noticedBy, why }) {
      await database.write(
        `INSERT INTO losses (id, noticed_at, noticed_by, why)
         SELECT $1, UTC_TIMESTAMP(3), $2, $3 FROM DUAL WHERE NOT EXISTS (SELECT 1 FROM losses l WHERE l.ended_at IS NULL)`,
        [idBytes(lossId), idBytes(noticedBy), why.slice(0, 600)],
      );
      const found = (await open()) ?? (await losses.find({ id: lossId }));
      return found ?? { id: lossId, noticedAt: 0, noticedBy, why, endedAt: null, endedBy: null };
    },
    async report(lossId, instanceId, report) {
      const bind: Bind[] = [idBytes(lossId), idBytes(instanceId), JSON.stringify(report)];
      await database.write('REPLACE INTO loss_reports (loss_id, instance_id, at, report) VALUES ($1, $2, UTC_TIMESTAMP(3), $3)', bind);
    },
    reports: (lossId) => reports.list({ lossId }),
    end: async (lossId, by) =>
      (await database.write('UPDATE losses SET ended_at = UTC_TIMESTAMP(3), ended_by = $1 WHERE id = $2 AND ended_at IS NULL', [by, idBytes(lossId)])) > 0,
    async deleteOld(keptMs) {
      await database.write(`DELETE FROM losses WHERE ended_at < UTC_TIMESTAMP(3) - ${intervalText(keptMs)}`);
    },
    async tables() {
      const rows = await database.select<{ name: string; at: Date | null }>(
        `SELECT TABLE_NAME AS name, CREATE_TIME AS at FROM information_schema.TABLES
         WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME IN ('arm_marks', 'connections', 'grants', 'marks', 'renewals', 'replicas', 'tokens')`,
      );
      return new Map(rows.map(({ name, at }) => [name, at?.getTime() ?? 0]));
    },
    async server() {
      const [row] = await database.select<{ server: string }>("SELECT CONCAT_WS(':', @@hostname, @@port, @@datadir, @@server_id) AS server");
      return row?.server ?? '';
    },
  };
}
