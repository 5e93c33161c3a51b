import { LRUCache } from 'lru-cache';
import type { z } from 'zod';
import type { Caller, UsageLine, UsageQuery } from '../../api/callers.ts';
import type { Connection } from '../../api/connections.ts';
import { permissionInWords, type Use } from '../../core/callers/permissions.ts';
import { type Bind, idBytes, instantText } from '../store/database.ts';
import { relayedBy } from './relayed-calls.ts';
import { iso, isoOrNull, type Services } from './services.ts';

type Needs = Pick<Services, 'database' | 'ports'>;

const MINUTE_MS = 60_000;
const DAY_MS = 86_400_000;
const MINUTES_SHOWN = 60;

/** The connections named: those that were used last. */
const USES_SHOWN = 200;
type Uses = Pick<Caller, 'uses' | 'uses_total'>;
/** A caller may have half a million minutes a day, and a page asks every few seconds: what took long is kept for ten times as long. */
const lately = new LRUCache<string, Uses>({ max: 100 });
const LONG_MS = 150;

/** What a caller did with each connection in the last day: what stops when it ends. */
export async function usesOf(s: Needs, callerId: string): Promise<Uses> {
  const kept = lately.get(callerId);
  if (kept) return kept;
  const startedAt = performance.now();
  const uses = await readUses(s, callerId);
  const tookMs = performance.now() - startedAt;
  if (tookMs > LONG_MS) lately.set(callerId, uses, { ttl: Math.ceil(tookMs * 10) });
  return uses;
}

interface UseRow {
  id: Buffer;
  name: string;
  outcome: string;
  /** The minute, where it is one of the last hour. */
  recent: Date | null;
  n: number | string;
  at: Date;
  total: number | bigint;
}

async function readUses(s: Needs, callerId: string): Promise<Uses> {
  const now = s.ports.clock.now();
  const [caller, dayAgo] = [idBytes(callerId), instantText(now - DAY_MS)];
  // One statement, so that the day and its last minutes tell of the same moment; older minutes come as one row.
  const rows = await s.database.select<UseRow>(
    `WITH used AS (SELECT connection_id, MAX(minute) AS last FROM usage_minutes WHERE caller_id = $1 AND minute > $2 GROUP BY connection_id),
       newest AS (SELECT connection_id FROM used ORDER BY last DESC LIMIT ${USES_SHOWN})
     SELECT k.id, k.name, u.outcome, IF(u.minute > $3, u.minute, NULL) AS recent, SUM(u.count) AS n, MAX(u.minute) AS at, (SELECT COUNT(*) FROM used) AS total
     FROM newest w JOIN usage_minutes u ON u.caller_id = $4 AND u.connection_id = w.connection_id AND u.minute > $5 JOIN connections k ON k.id = w.connection_id
     GROUP BY k.id, k.name, u.outcome, recent`,
    [caller, dayAgo, instantText(now - MINUTES_SHOWN * MINUTE_MS), caller, dayAgo],
  );
  const byName = new Map<string, UseRow[]>();
  for (const row of rows) {
    const its = byName.get(row.name);
    if (its) its.push(row);
    else byName.set(row.name, [row]);
  }
  const labels = await labelsUsed(
    s,
    caller,
    [...byName.values()].map((its) => (its[0] as UseRow).id),
  );
  const relays = await relayedBy(s, 'caller_id', caller);
  const uses = [...byName]
    .sort(([a], [b]) => (a < b ? -1 : 1))
    .map(([connection, its]) => {
      const of = (...outcomes: string[]) => its.filter((row) => outcomes.includes(row.outcome)).reduce((sum, row) => sum + Number(row.n), 0);
      return {
        connection,
        labels: labels.filter((one) => one.connection_id.equals((its[0] as UseRow).id)).map((one) => one.label),
        tokens: of('token'),
        relayed: of('relayed'),
        refused: of('refused', 'limited'),
        last_at: iso(Math.max(...its.map((row) => row.at.getTime()))),
        minutes: minutesOf(its, now),
        relay: relays.get((its[0] as UseRow).id.toString('hex')) ?? null,
      };
    });
  return { uses, uses_total: Number(rows[0]?.total ?? 0) };
}

function minutesOf(rows: readonly UseRow[], now: number): number[] {
  const minutes = new Array<number>(MINUTES_SHOWN).fill(0);
  for (const { recent, n } of rows) {
    if (recent === null) continue;
    // The minute that runs now may have begun after `now` was read.
    const at = Math.min(MINUTES_SHOWN - 1 - Math.floor((now - recent.getTime()) / MINUTE_MS), MINUTES_SHOWN - 1);
    if (at >= 0) minutes[at] = (minutes[at] ?? 0) + Number(n);
  }
  return minutes;
}

/** The labels by which a caller may use these connections. */
async function labelsUsed(s: Needs, caller: Buffer, connections: Buffer[]): Promise<{ connection_id: Buffer; label: string }[]> {
  if (connections.length === 0) return [];
  const bind: Bind[] = [caller];
  return s.database.select(
    `SELECT l.connection_id, l.label FROM permissions p JOIN connection_labels l ON l.label = p.label WHERE p.caller_id = $1 AND l.connection_id IN (${connections.map((id) => `$${bind.push(id)}`).join(', ')})`,
    bind,
  );
}

/** Uses by caller, connection, minute and outcome, newest first. */
export async function listUsage(s: Needs, query: z.output<typeof UsageQuery>): Promise<{ items: UsageLine[] }> {
  const bind: Bind[] = [instantText(s.ports.clock.now() - query.minutes * MINUTE_MS)];
  const also = [query.caller ? `AND c.name = $${bind.push(query.caller)}` : '', query.connection ? `AND k.name = $${bind.push(query.connection)}` : ''];
  const rows = await s.database.select<{ minute: Date; caller: string; connection: string; outcome: string; count: number }>(
    `SELECT u.minute, c.name AS caller, k.name AS connection, u.outcome, u.count FROM usage_minutes u JOIN callers c ON c.id = u.caller_id JOIN connections k ON k.id = u.connection_id
     WHERE u.minute > $1 ${also.join(' ')} ORDER BY u.minute DESC, c.name, k.name LIMIT ${query.limit}`,
    bind,
  );
  return { items: rows.map((row) => ({ ...row, minute: iso(row.minute.getTime()) })) };
}

/**
 * Each caller that may use a connection, by name or by a label of it, with what it may do and what it did lately: who uses it, and what
 * stops working when it ends. The last hour alone, by the key of the table: a caller may have half a million minutes, and a page asks
 * every 2 s.
 */
export async function usersOf(s: Needs, connectionId: string): Promise<Connection['callers_last_used']> {
  const id = idBytes(connectionId);
  const hourAgo = instantText(s.ports.clock.now() - MINUTES_SHOWN * MINUTE_MS);
  const lately = (outcomes: string) =>
    `(SELECT COALESCE(SUM(u.count), 0) FROM usage_minutes u WHERE u.caller_id = c.id AND u.connection_id = ? AND u.minute > '${hourAgo}' AND u.outcome IN (${outcomes}))`;
  const bind: Bind[] = [];
  const numbered = (sql: string) => sql.replace(/\?/g, () => `$${bind.push(id)}`);
  const relays = await relayedBy(s, 'connection_id', id);
  const rows = await s.database.select<{
    caller_id: Buffer;
    name: string;
    at: Date | null;
    use_as: string;
    methods: string | null;
    paths: string | null;
    share: number | null;
    tokens: number | string;
    relayed: number | string;
    refused: number | string;
  }>(
    numbered(
      `SELECT c.id AS caller_id, c.name, p.use_as, p.methods, p.paths, p.share, (SELECT u.minute FROM usage_minutes u WHERE u.caller_id = c.id AND u.connection_id = ? ORDER BY u.minute DESC LIMIT 1) AS at,
         ${lately("'token'")} AS tokens, ${lately("'relayed'")} AS relayed, ${lately("'refused', 'limited'")} AS refused
       FROM permissions p JOIN callers c ON c.id = p.caller_id WHERE p.connection_id = ? OR p.label IN (SELECT l.label FROM connection_labels l WHERE l.connection_id = ?) ORDER BY c.name`,
    ),
    bind,
  );
  const users = new Map<string, Connection['callers_last_used'][number]>();
  for (const row of rows) {
    const says = permissionInWords({
      use: row.use_as as Use,
      methods: JSON.parse(row.methods ?? '[]') as string[],
      paths: JSON.parse(row.paths ?? '[]') as string[],
      share: row.share,
    });
    const known = users.get(row.name);
    users.set(row.name, {
      caller: row.name,
      at: isoOrNull(row.at?.getTime() ?? null),
      says: known ? `${known.says}; or ${says}` : says,
      tokens_last_hour: Number(row.tokens),
      relayed_last_hour: Number(row.relayed),
      refused_last_hour: Number(row.refused),
      relay: relays.get(row.caller_id.toString('hex')) ?? null,
    });
  }
  return [...users.values()];
}
