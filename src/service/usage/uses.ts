import { LRUCache } from 'lru-cache';
import type { z } from 'zod';
import type { Caller, UsageLine, UsageQuery } from '../../api/callers.ts';
import type { Connection } from '../../api/connections.ts';
import { permissionInWords } from '../../core/callers/permissions.ts';
import { iso, isoOrNull } from '../iso.ts';
import type { UseRow } from '../store/usage.ts';
import type { UsageParts } from './parts.ts';
import { relayedBy } from './relayed-calls.ts';

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
export async function usesOf(s: UsageParts, callerId: string): Promise<Uses> {
  const kept = lately.get(callerId);
  if (kept) return kept;
  const startedAt = performance.now();
  const uses = await readUses(s, callerId);
  const tookMs = performance.now() - startedAt;
  if (tookMs > LONG_MS) lately.set(callerId, uses, { ttl: Math.ceil(tookMs * 10) });
  return uses;
}

async function readUses(s: UsageParts, callerId: string): Promise<Uses> {
  const now = s.ports.clock.now();
  const { rows, total } = await s.store.usage.usesOf(callerId, now - DAY_MS, now - MINUTES_SHOWN * MINUTE_MS, USES_SHOWN);
  const byName = new Map<string, UseRow[]>();
  for (const row of rows) {
    const its = byName.get(row.name);
    if (its) its.push(row);
    else byName.set(row.name, [row]);
  }
  const idOf = (its: readonly UseRow[]): string => its[0]?.connectionId ?? '';
  const labels = await s.store.permissions.labelsUsed(callerId, [...byName.values()].map(idOf));
  const relays = await relayedBy(s, { callerId });
  const uses = [...byName]
    .sort(([a], [b]) => (a < b ? -1 : 1))
    .map(([connection, its]) => {
      const of = (...outcomes: string[]) => its.filter((row) => outcomes.includes(row.outcome)).reduce((sum, row) => sum + row.n, 0);
      return {
        connection,
        labels: labels.filter((one) => one.connectionId === idOf(its)).map((one) => one.label),
        tokens: of('token'),
        relayed: of('relayed'),
        refused: of('refused', 'limited'),
        last_at: iso(Math.max(...its.map((row) => row.at))),
        minutes: minutesOf(its, now),
        relay: relays.get(idOf(its)) ?? null,
      };
    });
  return { uses, uses_total: total };
}

function minutesOf(rows: readonly UseRow[], now: number): number[] {
  const minutes = new Array<number>(MINUTES_SHOWN).fill(0);
  for (const { recent, n } of rows) {
    if (recent === null) continue;
    // The minute that runs now may have begun after `now` was read.
    const at = Math.min(MINUTES_SHOWN - 1 - Math.floor((now - recent) / MINUTE_MS), MINUTES_SHOWN - 1);
    if (at >= 0) minutes[at] = (minutes[at] ?? 0) + n;
  }
  return minutes;
}

/** Uses by caller, connection, minute and outcome, newest first. */
export async function listUsage(s: UsageParts, query: z.output<typeof UsageQuery>): Promise<{ items: UsageLine[] }> {
  const rows = await s.store.usage.list({ ...query, since: s.ports.clock.now() - query.minutes * MINUTE_MS });
  return { items: rows.map((row) => ({ ...row, minute: iso(row.minute) })) };
}

/**
 * Each caller that may use a connection, by name or by a label of it, with what it may do and what it did lately: who uses it, and what
 * stops working when it ends. The last hour alone, by the key of the table: a caller may have half a million minutes, and a page asks
 * every 2 s.
 */
export async function usersOf(s: UsageParts, connectionId: string, limits?: readonly string[]): Promise<Connection['callers_last_used']> {
  const [relays, rows] = await Promise.all([
    relayedBy(s, { connectionId }),
    s.store.usage.usersOf(connectionId, s.ports.clock.now() - MINUTES_SHOWN * MINUTE_MS),
  ]);
  const users = new Map<string, Connection['callers_last_used'][number]>();
  for (const row of rows) {
    const says = permissionInWords(row.rule);
    const known = users.get(row.caller);
    users.set(row.caller, {
      caller: row.caller,
      at: isoOrNull(row.at),
      says: known ? `${known.says}; or ${says}` : says,
      tokens_last_hour: row.tokens,
      relayed_last_hour: row.relayed,
      refused_last_hour: row.refused,
      relay: relays.get(row.callerId) ?? null,
    });
  }
  const within = limits && (await s.store.limits.callersWithin([...users.keys()], limits));
  return [...users.values()].filter((one) => within?.has(one.caller) ?? true);
}
