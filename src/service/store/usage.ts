import type { Permission as Rule } from '../../core/callers/permissions.ts';
import { type Bind, type Database, idBytes, idText, instantText } from './database.ts';
import { openingPermissions, ruleColumns, ruleOf } from './permissions.ts';

/** `refused`: by us; `limited`: for lack of quota; `relayed`: sent on, whatever the API answered. */
export const USAGE_OUTCOMES = ['token', 'relayed', 'refused', 'limited'] as const;
export type UsageOutcome = (typeof USAGE_OUTCOMES)[number];

/** Uses of one caller and connection in one minute (epoch ms), by outcome. */
export interface UsageCount {
  callerId: string;
  connectionId: string;
  minute: number;
  outcome: UsageOutcome;
  count: number;
}
/** A caller's uses of a connection by outcome: one row for each of the last minutes, one for all that is older. */
export interface UseRow {
  connectionId: string;
  name: string;
  outcome: string;
  /** The minute, where it is one of the last ones. */
  recent: number | null;
  n: number;
  /** The last minute of the row. */
  at: number;
}
/** A caller that may use a connection by one permission, with what it did lately. */
interface UserRow {
  callerId: string;
  caller: string;
  rule: Rule;
  at: number | null;
  tokens: number;
  relayed: number;
  refused: number;
}

/** Counts of issued tokens and relayed calls, by caller, connection, minute and outcome. Instants are epoch ms. */
export interface UsageStore {
  add(counts: readonly UsageCount[]): Promise<void>;
  /** By outcome since then, of one caller or of all. */
  totals(since: number, callerRecordId?: string): Promise<Partial<Record<string, number>>>;
  /** A caller's uses since `dayAgo`, of the connections used last, at most so many; `total`: how many connections there are. */
  usesOf(callerRecordId: string, dayAgo: number, recentSince: number, most: number): Promise<{ rows: UseRow[]; total: number }>;
  /** Newest first. */
  list(filter: {
    since: number;
    caller?: string | undefined;
    connection?: string | undefined;
    limit: number;
  }): Promise<{ minute: number; caller: string; connection: string; outcome: string; count: number }[]>;
  /** What each caller did with each connection since then: by names, those that are gone left out. */
  byCallerAndConnection(since: number): Promise<{ caller: string; connection: string; tokens: number; relayed: number }[]>;
  /** By the caller's name, with counts since `hourAgo`: by the key of the table, since a caller may have half a million minutes. */
  usersOf(connectionId: string, hourAgo: number): Promise<UserRow[]>;
  /** Deletes counts older than so many days, at most so many rows. How many it were. */
  deleteOld(days: number, most: number): Promise<number>;
}

export function usageStore(database: Database): UsageStore {
  return {
    async byCallerAndConnection(since) {
      const rows = await database.select<{ caller: string; connection: string; tokens: number | bigint; relayed: number | bigint }>(
        `SELECT c.name AS caller, k.name AS connection, s.tokens, s.relayed FROM (
           SELECT caller_id, connection_id, SUM(IF(outcome = 'token', count, 0)) AS tokens, SUM(IF(outcome = 'relayed', count, 0)) AS relayed
           FROM usage_minutes WHERE minute >= $1 GROUP BY caller_id, connection_id
         ) s JOIN callers c ON c.id = s.caller_id JOIN connections k ON k.id = s.connection_id`,
        [instantText(since)],
      );
      return rows.map((row) => ({ ...row, tokens: Number(row.tokens), relayed: Number(row.relayed) }));
    },
    async add(counts) {
      const bind: Bind[] = [];
      const values = counts.map((row) =>
        [idBytes(row.callerId), idBytes(row.connectionId), instantText(row.minute), row.outcome, row.count].map((value) => `$${bind.push(value)}`).join(', '),
      );
      await database.write(
        `INSERT INTO usage_minutes (caller_id, connection_id, minute, outcome, count) VALUES (${values.join('), (')})
         ON DUPLICATE KEY UPDATE count = count + VALUES(count)`,
        bind,
      );
    },
    async totals(since, callerRecordId) {
      const rows = await database.select<{ outcome: string; n: number | bigint | string }>(
        `SELECT outcome, SUM(count) AS n FROM usage_minutes
         WHERE minute > $1 ${callerRecordId === undefined ? '' : 'AND caller_id = $2'} GROUP BY outcome`,
        [instantText(since), ...(callerRecordId === undefined ? [] : [idBytes(callerRecordId)])],
      );
      return Object.fromEntries(rows.map((row) => [row.outcome, Number(row.n)]));
    },
    async usesOf(callerRecordId, dayAgo, recentSince, most) {
      const [caller, since] = [idBytes(callerRecordId), instantText(dayAgo)];
      // One statement, so that the day and its last minutes tell of the same moment; older minutes come as one row.
      const rows = await database.select<{
        id: Buffer;
        name: string;
        outcome: string;
        recent: Date | null;
        n: number | string;
        at: Date;
        total: number | bigint;
      }>(
        `WITH used AS (
           SELECT connection_id, MAX(minute) AS last FROM usage_minutes WHERE caller_id = $1 AND minute > $2 GROUP BY connection_id
         ), newest AS (
           SELECT connection_id FROM used ORDER BY last DESC LIMIT ${Math.floor(most)}
         )
         SELECT k.id, k.name, u.outcome, IF(u.minute > $3, u.minute, NULL) AS recent, SUM(u.count) AS n, MAX(u.minute) AS at,
           (SELECT COUNT(*) FROM used) AS total
         FROM newest w
         JOIN usage_minutes u ON u.caller_id = $4 AND u.connection_id = w.connection_id AND u.minute > $5
         JOIN connections k ON k.id = w.connection_id
         GROUP BY k.id, k.name, u.outcome, recent`,
        [caller, since, instantText(recentSince), caller, since],
      );
      return {
        rows: rows.map((row) => ({
          connectionId: idText(row.id),
          name: row.name,
          outcome: row.outcome,
          recent: row.recent?.getTime() ?? null,
          n: Number(row.n),
          at: row.at.getTime(),
        })),
        total: Number(rows[0]?.total ?? 0),
      };
    },
    async list({ since, caller, connection, limit }) {
      const bind: Bind[] = [instantText(since)];
      const also = [caller ? `AND c.name = $${bind.push(caller)}` : '', connection ? `AND k.name = $${bind.push(connection)}` : ''];
      const rows = await database.select<{ minute: Date; caller: string; connection: string; outcome: string; count: number }>(
        `SELECT u.minute, c.name AS caller, k.name AS connection, u.outcome, u.count
         FROM usage_minutes u JOIN callers c ON c.id = u.caller_id JOIN connections k ON k.id = u.connection_id
         WHERE u.minute > $1 ${also.join(' ')}
         ORDER BY u.minute DESC, c.name, k.name LIMIT ${Math.floor(limit)}`,
        bind,
      );
      return rows.map((row) => ({ ...row, minute: row.minute.getTime() }));
    },
    async usersOf(connectionId, hourAgo) {
      const bind: Bind[] = [];
      const its = () => `$${bind.push(idBytes(connectionId))}`;
      const lately = (outcomes: string) =>
        `(SELECT COALESCE(SUM(u.count), 0) FROM usage_minutes u
          WHERE u.caller_id = c.id AND u.connection_id = ${its()} AND u.minute > '${instantText(hourAgo)}' AND u.outcome IN (${outcomes}))`;
      const rows = await database.select<{
        caller_id: Buffer;
        name: string;
        at: Date | null;
        use_as: string;
        methods: string | null;
        paths: string | null;
        share: number | null;
        people: string;
        tokens: number | string;
        relayed: number | string;
        refused: number | string;
      }>(
        `SELECT c.id AS caller_id, c.name, ${ruleColumns('p')},
           (SELECT u.minute FROM usage_minutes u WHERE u.caller_id = c.id AND u.connection_id = ${its()} ORDER BY u.minute DESC LIMIT 1) AS at,
           ${lately("'token'")} AS tokens, ${lately("'relayed'")} AS relayed, ${lately("'refused', 'limited'")} AS refused
         FROM ${openingPermissions(its(), its())} JOIN callers c ON c.id = p.caller_id ORDER BY c.name`,
        bind,
      );
      return rows.map((row) => ({
        callerId: idText(row.caller_id),
        caller: row.name,
        rule: ruleOf(row, row.name),
        at: row.at?.getTime() ?? null,
        tokens: Number(row.tokens),
        relayed: Number(row.relayed),
        refused: Number(row.refused),
      }));
    },
    deleteOld: (days, most) =>
      database.write(`DELETE FROM usage_minutes WHERE minute < UTC_TIMESTAMP(3) - INTERVAL ${Math.floor(days)} DAY LIMIT ${Math.floor(most)}`),
  };
}
