import type { ConnectionSummary } from '../../api/connections.ts';
import type { Status } from '../../api/status.ts';
import { connectionHealth } from '../../core/health.ts';
import { instantText } from '../store/database.ts';
import { readConnections, summaries, TICKS_IN_LISTS } from './connection-facts.ts';
import { iso, isoOrNull, type Services } from './services.ts';

const HOUR_MS = 3_600_000;
const ATTENTION_MOST = 50;
const DAY_MS = 86_400_000;
/** A replica that has not written its heartbeat for this long is called silent. */
const SILENT_MS = 10_000;

/** What works, what struggles, what needs a person: the Now page and `rk status`. */
export async function showStatus(s: Services): Promise<Status> {
  const now = s.ports.clock.now();
  const [connections, counts, queue, usage, replicas, numbers] = await Promise.all([
    readConnections(s),
    s.history.counts(['renewed', 'renewal_failed', 'needs_person'], now - HOUR_MS),
    s.renewals.queue(),
    s.database.select<{ outcome: string; n: number | bigint | string }>(
      'SELECT outcome, SUM(count) AS n FROM usage_minutes WHERE minute > $1 GROUP BY outcome',
      [instantText(now - HOUR_MS)],
    ),
    s.tables.replicas.list({}, 'startedAt'),
    s.database.select<{ providers: number | bigint; clients: number | bigint; callers: number | bigint }>(
      'SELECT (SELECT COUNT(*) FROM providers) AS providers, (SELECT COUNT(*) FROM clients) AS clients, (SELECT COUNT(*) FROM callers) AS callers',
    ),
  ]);
  const states = connections.map((one) => ({ one, state: connectionHealth(one.facts, now).state }));
  const inState = (state: ConnectionSummary['state']) => states.filter((shown) => shown.state === state).map((shown) => shown.one);
  const [working, struggling, person] = [inState('working'), inState('struggling'), inState('needs_person')];
  const used = (outcome: string) => Number(usage.find((row) => row.outcome === outcome)?.n ?? 0);
  const newest = new Map(replicas.map((one) => [one.instanceId, one])); // in order of start: a later life replaces an earlier one
  const lately = [...newest.values()].filter((one) => now - one.seenAt < DAY_MS);
  return {
    at: iso(now),
    version: s.version,
    public_url: s.settings.publicUrl,
    connections: {
      total: connections.length,
      working: working.length,
      struggling: struggling.length,
      needs_person: person.length,
      other: connections.length - working.length - struggling.length - person.length,
    },
    attention: await summaries(s, [...person, ...struggling, ...inState('draft')].slice(0, ATTENTION_MOST), TICKS_IN_LISTS),
    renewals: {
      last_hour: counts.renewed ?? 0,
      failed_last_hour: (counts.renewal_failed ?? 0) + (counts.needs_person ?? 0),
      due_now: queue.due,
      oldest_due_at: isoOrNull(queue.oldestAt),
      unsaved: s.keeper.unsaved(),
      spilled: s.spill.waiting(),
    },
    handouts: { last_hour: used('token'), refused_last_hour: used('refused') },
    providers: Number(numbers[0]?.providers ?? 0),
    clients: Number(numbers[0]?.clients ?? 0),
    callers: Number(numbers[0]?.callers ?? 0),
    replicas: lately.map((one) => ({
      instance: one.instanceId,
      incarnation: one.incarnation,
      roles: one.roles.split(','),
      started_at: iso(one.startedAt),
      seen_at: iso(one.seenAt),
      alive: one.roles !== 'stopped' && now - one.seenAt < SILENT_MS,
    })),
  };
}
