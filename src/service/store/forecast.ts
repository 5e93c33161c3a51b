import { z } from 'zod';
import { JobSettings } from '../../api/jobs.ts';
import { ComposedCall } from '../../api/trying.ts';
import type { Schedule } from '../../core/jobs/schedule.ts';
import { bytes, document, flag, id, instant, number, orElse, orNull, rowReader, text, textMap, words } from './column.ts';
import { type Bind, type Database, idBytes, idText, instantText } from './database.ts';
import { idsWithin } from './limits.ts';
import { defineTable, type RowOf } from './table.ts';

const CALENDAR = { id, name: text, tokenHash: bytes, createdBy: text, createdAt: instant, lastReadAt: orNull(instant) };
export type CalendarRow = RowOf<typeof CALENDAR>;

/** A grant that ends, or may: the facts of its row. Instants are epoch ms. */
export interface EndingGrant {
  id: string;
  connectionId: string;
  connection: string;
  shared: string | null;
  sharedId: string | null;
  account: string | null;
  lifeEndsAt: number | null;
  consentedAt: number;
  clientId: string;
  isStandby: boolean;
  labels: string[];
}
/** Whom an end hits, through a client or one connection. */
interface Users {
  connections: number;
  examples: string[];
  callers: string[];
  jobs: string[];
  labels: string[];
}

export interface ScheduledJob {
  name: string;
  schedule: Schedule;
  connectionId: string;
  connection: string;
  placeholders: Record<string, string>;
  labels: string[];
  clientRecordId: string;
  client: string;
  provider: string;
  call: ComposedCall;
  calls: number;
}
/** Free space of the disk under a folder of a replica. */
interface DiskLevel {
  instance: string;
  folder: string;
  freeMb: number;
  totalMb: number;
}
const LEVEL = { id, instanceId: id, folder: text, at: instant, freeMb: number, totalMb: number };

/** An entry as calendars have it. Instants are epoch ms. */
interface CalendarEntry {
  key: string;
  summary: string;
  at: number;
  /** Grows with each change (RFC 5545 §3.8.7.4). */
  sequence: number;
  /** When it was dealt with; null: it still stands. */
  canceledAt: number | null;
}
const ENTRY = { entryKey: text, summary: text, at: instant, sequence: number, canceledAt: orNull(instant) };
const LastRun = z.object({ call: ComposedCall, calls: z.number() });
const readScheduled = rowReader(
  'jobs',
  {
    ...{ name: text, connectionId: id, connection: text, placeholders: orElse(textMap, {}), labels: words, clientRecordId: id, client: text, provider: text },
    ...{ settings: document, plan: document, checkpoint: document },
  },
  'name',
);
const readEnding = rowReader(
  'grants',
  {
    ...{ id, connectionId: id, connection: text, shared: orNull(text), sharedId: orNull(id), account: orNull(text), lifeEndsAt: orNull(instant) },
    ...{ consentedAt: orElse(instant, 0), clientId: id, isStandby: flag, labels: words },
  },
  'id',
);
const LEVELS_KEPT_DAYS = 40;

/** Dates, for the forecast: only what ends is read, however many connections there are. */
export interface ForecastStore {
  /** Clients of which at least one kept secret ends until then. */
  clientsWithEndingSecrets(until: number): Promise<string[]>;
  /** Grants in use or on standby that end until then; of the clients named, all that were consented to before `consentedBefore`. */
  endingGrants(until: number, phases: readonly { clientId: string; consentedBefore: number }[], most: number): Promise<EndingGrant[]>;
  /** Enabled jobs with a schedule and a run that was done: what they call, and how many calls the last one took. */
  scheduledJobs(most: number): Promise<ScheduledJob[]>;
  /** Free space as it was seen since then, the oldest first. */
  diskLevels(since: number): Promise<(DiskLevel & { at: number })[]>;
  addDiskLevels(levels: readonly (DiskLevel & { id: string; at: number })[]): Promise<void>;
  /** What calendars were told: by key. */
  calendarEntries(): Promise<CalendarEntry[]>;
  /** Adds or replaces entries, and forgets those canceled before then. */
  keepCalendarEntries(entries: readonly CalendarEntry[], canceledBefore: number): Promise<void>;
  /** @param limits labels: what is beyond them is left out of names and counts */
  usersOfClient(clientId: string, limits?: readonly string[]): Promise<Users>;
  usersOfConnection(connectionId: string, limits?: readonly string[]): Promise<Users>;
  /** Keys of callers that end until then; `isLast`: no other key of the caller lives on. */
  endingKeys(until: number): Promise<{ id: string; callerId: string; caller: string; label: string; endsAt: number; isLast: boolean }[]>;
  /** Labels of what a caller may use. */
  labelsOfCaller(callerId: string): Promise<string[]>;
  connectionsOfCaller(callerId: string): Promise<string[]>;
  /** Open invitations, for each shared connection. */
  openInvitations(until: number): Promise<{ shared: string; count: number; firstEndsAt: number }[]>;
  calendars(): Promise<CalendarRow[]>;
  addCalendar(row: CalendarRow): Promise<void>;
  removeCalendar(calendarId: string): Promise<boolean>;
  /** The calendar of this address, which was read now. */
  readCalendar(tokenHash: Buffer): Promise<CalendarRow | null>;
}

const EXAMPLES = 20;
const MAX_ROWS = 20_000;
const MAX_NAMES = 50;

export function forecastStore(database: Database): ForecastStore {
  const table = defineTable(database, 'calendars', CALENDAR, { primaryKey: ['id'] });
  const before = (at: number): string => `'${new Date(at).toISOString().slice(0, 23).replace('T', ' ')}'`;
  const names = async (sql: string, bind: Bind[]): Promise<string[]> => (await database.select<{ name: string }>(sql, bind)).map((row) => row.name);
  const users = async (one: string, bind: Bind[], limits?: readonly string[]): Promise<Users> => {
    const condition = limits === undefined ? one : `${one} AND COALESCE(k.person_of, k.id) IN (${idsWithin(limits, bind)})`;
    const [[row], examples, callers, jobs, labels] = await Promise.all([
      database.select<{ n: number | bigint }>(`SELECT COUNT(*) AS n FROM connections k WHERE ${condition}`, bind),
      names(`SELECT k.name FROM connections k WHERE ${condition} AND k.person_of IS NULL ORDER BY k.name LIMIT ${EXAMPLES}`, bind),
      names(
        `SELECT DISTINCT c.name FROM callers c JOIN permissions p ON p.caller_id = c.id
         WHERE p.connection_id IN (SELECT k.id FROM connections k WHERE ${condition})
            OR p.label IN (SELECT l.label FROM connection_labels l JOIN connections k ON k.id = l.connection_id WHERE ${condition})
         ORDER BY c.name LIMIT ${MAX_NAMES}`,
        bind,
      ),
      names(`SELECT j.name FROM jobs j JOIN connections k ON k.id = j.connection_id WHERE ${condition} ORDER BY j.name LIMIT ${MAX_NAMES}`, bind),
      names(
        `SELECT DISTINCT l.label AS name FROM connection_labels l JOIN connections k ON k.id = l.connection_id WHERE ${condition} ORDER BY l.label LIMIT ${MAX_NAMES}`,
        bind,
      ),
    ]);
    return { connections: Number(row?.n ?? 0), examples, callers, jobs, labels };
  };
  const diskRows = defineTable(database, 'disk_levels', LEVEL, { primaryKey: ['id'] });
  const entries = defineTable(database, 'calendar_entries', ENTRY, { primaryKey: ['entryKey'] });
  return {
    async scheduledJobs(most) {
      const rows = await database.select(
        `SELECT j.name, j.settings, k.id AS connectionId, k.name AS connection, k.placeholders, c.id AS clientRecordId, c.name AS client, p.name AS provider,
           (SELECT GROUP_CONCAT(l.label ORDER BY l.label SEPARATOR ' ') FROM connection_labels l WHERE l.connection_id = k.id) AS labels, r.plan, r.checkpoint
         FROM jobs j JOIN connections k ON k.id = j.connection_id JOIN clients c ON c.id = k.client_id JOIN providers p ON p.id = c.provider_id
         JOIN runs r ON r.id = (SELECT x.id FROM runs x WHERE x.job_id = j.id AND x.state = 'done' ORDER BY x.number DESC LIMIT 1)
         WHERE j.enabled = 1 AND j.next_run_at IS NOT NULL ORDER BY j.name LIMIT ${Math.floor(most)}`,
      );
      return rows.map(readScheduled).flatMap(({ settings, plan, checkpoint, ...job }) => {
        // What an earlier version wrote may lack what a forecast needs; the next run writes it.
        const [read, last] = [JobSettings.safeParse(settings), LastRun.safeParse({ ...plan, calls: checkpoint.calls })];
        return read.success && last.success ? [{ ...job, ...last.data, schedule: read.data.schedule }] : [];
      });
    },
    async diskLevels(since) {
      const rows = await database.select<{ instance_id: Buffer; folder: string; at: Date; free_mb: number; total_mb: number }>(
        `SELECT instance_id, folder, at, free_mb, total_mb FROM disk_levels WHERE at >= $1 ORDER BY at LIMIT ${MAX_ROWS}`,
        [instantText(since)],
      );
      return rows.map((row) => ({
        ...{ instance: idText(row.instance_id), folder: row.folder, at: row.at.getTime() },
        ...{ freeMb: Number(row.free_mb), totalMb: Number(row.total_mb) },
      }));
    },
    async addDiskLevels(levels) {
      for (const { instance, ...level } of levels) await diskRows.insert({ ...level, instanceId: instance });
      await database.write(`DELETE FROM disk_levels WHERE at < UTC_TIMESTAMP(3) - INTERVAL ${LEVELS_KEPT_DAYS} DAY LIMIT 1000`);
    },
    calendarEntries: async () => (await entries.list()).map(({ entryKey, ...one }) => ({ key: entryKey, ...one })),
    keepCalendarEntries: (changed, canceledBefore) =>
      database.transaction(async (transaction) => {
        for (const one of changed)
          await database.write(
            `INSERT INTO calendar_entries (entry_key, summary, at, sequence, canceled_at) VALUES ($1, $2, $3, $4, $5)
             ON DUPLICATE KEY UPDATE summary = VALUES(summary), at = VALUES(at), sequence = VALUES(sequence), canceled_at = VALUES(canceled_at)`,
            [one.key, one.summary, instantText(one.at), one.sequence, one.canceledAt === null ? null : instantText(one.canceledAt)],
            transaction,
          );
        await database.write('DELETE FROM calendar_entries WHERE canceled_at < $1', [instantText(canceledBefore)], transaction);
      }),
    async clientsWithEndingSecrets(until) {
      const rows = await database.select<{ id: Buffer }>(
        `SELECT DISTINCT s.client_id AS id FROM client_secrets s JOIN clients c ON c.id = s.client_id
         WHERE s.state IN ('active', 'unverified') AND s.ends_at <= ${before(until)} AND c.stage <> 'retired'`,
      );
      return rows.map((row) => idText(row.id));
    },
    async endingGrants(until, phases, most) {
      const ofPhases = phases.map(
        ({ clientId, consentedBefore }) =>
          `(COALESCE(g.client_id, k.client_id) = X'${idBytes(clientId).toString('hex')}' AND g.consented_at <= ${before(consentedBefore)})`,
      );
      const rows = await database.select(
        `SELECT g.id, k.id AS connectionId, k.name AS connection, o.name AS shared, o.id AS sharedId, g.account_label AS account,
           g.life_ends_at AS lifeEndsAt, g.consented_at AS consentedAt, COALESCE(g.client_id, k.client_id) AS clientId,
           k.standby_grant_id <=> g.id AS isStandby,
           (SELECT GROUP_CONCAT(l.label ORDER BY l.label SEPARATOR ' ') FROM connection_labels l WHERE l.connection_id = k.id) AS labels
         FROM grants g JOIN connections k ON k.id = g.connection_id AND (k.current_grant_id = g.id OR k.standby_grant_id = g.id)
         LEFT JOIN connections o ON o.id = k.person_of
         WHERE g.ended_at IS NULL AND k.intent IN ('active', 'paused') AND g.kind NOT IN ('static_key', 'client_credentials', 'jwt_bearer')
           AND (g.life_ends_at <= ${before(until)}${ofPhases.map((one) => ` OR ${one}`).join('')})
         ORDER BY g.consented_at LIMIT ${Math.floor(most)}`,
      );
      return rows.map(readEnding);
    },
    usersOfClient: (clientId, limits) => users('k.client_id = $1', [idBytes(clientId)], limits),
    usersOfConnection: (connectionId, limits) => users('k.id = $1', [idBytes(connectionId)], limits),
    async endingKeys(until) {
      const rows = await database.select<{ id: Buffer; caller_id: Buffer; caller: string; label: string; ends_at: Date; others: number | bigint }>(
        `SELECT y.id, y.caller_id, c.name AS caller, y.label, y.ends_at,
           (SELECT COUNT(*) FROM caller_keys o WHERE o.caller_id = y.caller_id AND o.id <> y.id AND o.retired = 0 AND (o.ends_at IS NULL OR o.ends_at > y.ends_at)) AS others
         FROM caller_keys y JOIN callers c ON c.id = y.caller_id WHERE y.retired = 0 AND y.ends_at > UTC_TIMESTAMP(3) - INTERVAL 90 DAY AND y.ends_at <= ${before(until)}`,
      );
      return rows.map((row) => ({
        id: idText(row.id),
        callerId: idText(row.caller_id),
        caller: row.caller,
        label: row.label,
        endsAt: row.ends_at.getTime(),
        isLast: Number(row.others) === 0,
      }));
    },
    labelsOfCaller: (callerId) =>
      names(
        `SELECT DISTINCT x.name FROM (
           SELECT p.label AS name FROM permissions p WHERE p.caller_id = $1 AND p.label IS NOT NULL
           UNION SELECT l.label FROM permissions p JOIN connection_labels l ON l.connection_id = p.connection_id WHERE p.caller_id = $2
         ) x ORDER BY x.name LIMIT ${MAX_NAMES}`,
        [idBytes(callerId), idBytes(callerId)],
      ),
    connectionsOfCaller: (callerId) =>
      names(`SELECT k.name FROM permissions p JOIN connections k ON k.id = p.connection_id WHERE p.caller_id = $1 ORDER BY k.name LIMIT ${EXAMPLES}`, [
        idBytes(callerId),
      ]),
    async openInvitations(until) {
      const rows = await database.select<{ shared: string; n: number | bigint; first: Date }>(
        `SELECT o.name AS shared, COUNT(*) AS n, MIN(i.expires_at) AS first FROM invitations i JOIN connections o ON o.id = i.shared_id
         WHERE i.kind = 'invitation' AND i.revoked_at IS NULL AND (i.uses_most IS NULL OR i.uses < i.uses_most)
           AND i.expires_at > UTC_TIMESTAMP(3) AND i.expires_at <= ${before(until)} GROUP BY o.name`,
      );
      return rows.map((row) => ({ shared: row.shared, count: Number(row.n), firstEndsAt: row.first.getTime() }));
    },
    calendars: () => table.list({}, { orderBy: 'name' }),
    addCalendar: (row) => table.insert(row),
    removeCalendar: async (calendarId) => (await table.remove({ id: calendarId })) > 0,
    async readCalendar(tokenHash) {
      const row = await table.find({ tokenHash });
      if (row) await database.write('UPDATE calendars SET last_read_at = UTC_TIMESTAMP(3) WHERE id = $1', [idBytes(row.id)]);
      return row;
    },
  };
}
