import type { z } from 'zod';
import type { ConnectionSummary } from '../../api/connections.ts';
import type { CauseGroup, InstallationState, Status } from '../../api/status.ts';
import { connectionHealth, groupInWords } from '../../core/health.ts';
import { instantText } from '../store/database.ts';
import { countByFacts, readConnections, summaries, TICKS_IN_LISTS } from './connection-facts.ts';
import { listReplicas } from './replicas.ts';
import { iso, isoOrNull, type Services } from './services.ts';

const MINUTE_MS = 60_000;
const HOUR_MS = 3_600_000;
const ATTENTION_MOST = 50;
/** Of those about which there may be something to say, so many are read to find the worst. */
const LOOKED_AT_MOST = 500;
const GROUPS_MOST = 50;

export async function installationState(s: Pick<Services, 'hold'>): Promise<z.output<typeof InstallationState>> {
  const { held, why, heldAt } = await s.hold.state();
  return { held, why, held_at: isoOrNull(heldAt) };
}

type Counted = Awaited<ReturnType<typeof countByFacts>>[number];

/** Struggling and needs-person connections by cause: one line, one remedy, however many there are. */
async function causeGroups(s: Services, counted: Counted[], now: number): Promise<CauseGroup[]> {
  const titles = new Map((await s.tables.providers.list()).map((provider) => [provider.name, provider.title]));
  const groups = new Map<string, CauseGroup>();
  for (const one of counted) {
    const health = connectionHealth(one.facts, now);
    if (health.cause_key === null || (health.state !== 'struggling' && health.state !== 'needs_person')) continue;
    const key = [health.state, health.cause_key, one.provider, one.client].join(' ');
    const known = groups.get(key);
    groups.set(key, {
      state: health.state,
      cause_key: health.cause_key,
      provider: one.provider,
      client: one.client,
      says: groupInWords(health.cause_key, titles.get(one.provider) ?? one.provider, `${one.provider}/${one.client}`),
      count: (known?.count ?? 0) + one.count,
      remedy: health.remedy ?? '',
      evidence: health.cause_key === 'client_refused' ? one.evidence : null,
      example: known && known.example < one.example ? known.example : one.example,
    });
  }
  const weight = (group: CauseGroup) => (group.state === 'needs_person' ? 1e9 : 0) + group.count;
  return [...groups.values()].sort((a, b) => weight(b) - weight(a)).slice(0, GROUPS_MOST);
}

const APPROVED_NEWS_DAYS = 14;
const APPROVALS_MOST = 50;

async function approvals(s: Services, now: number): Promise<Status['approvals']> {
  const since = iso(now - APPROVED_NEWS_DAYS * 24 * HOUR_MS).slice(0, 10);
  const rows = await s.database.select<{
    provider: string;
    client: string;
    approval: string;
    asked: string | null;
    approved: string | null;
    seen: Date | null;
  }>(
    `SELECT p.name AS provider, c.name AS client, c.approval, JSON_VALUE(c.registering, '$.asked_on') AS asked, JSON_VALUE(c.registering, '$.approved_on') AS approved, c.approval_seen_at AS seen
     FROM clients c JOIN providers p ON p.id = c.provider_id
     WHERE c.stage <> 'retired' AND c.rehearsal_port IS NULL AND (c.approval IN ('not_asked', 'asked', 'they_ask_back', 'refused') OR (c.approval = 'given' AND JSON_VALUE(c.registering, '$.approved_on') >= $1))
     ORDER BY c.approval, p.name, c.name LIMIT ${APPROVALS_MOST}`,
    [since],
  );
  return rows.map((row) => ({
    provider: row.provider,
    client: row.client,
    approval: row.approval,
    on: row.approval === 'given' ? row.approved : row.asked,
    seen_at: row.seen instanceof Date ? row.seen.toISOString() : null,
  }));
}

/** Tokens that are not as expected, and about which nobody has decided. */
async function decisions(s: Services): Promise<Status['decisions']> {
  const rows = await s.database.select<{ name: string; why: 'other_account' | 'not_proved'; account: string | null; since: Date }>(
    `SELECT k.name, k.standby_why AS why, g.account_label AS account, g.consented_at AS since FROM connections k JOIN grants g ON g.id = k.standby_grant_id
     WHERE k.standby_why IN ('other_account', 'not_proved') ORDER BY g.consented_at LIMIT ${APPROVALS_MOST}`,
  );
  return rows.map(({ name, why, account, since }) => ({ connection: name, why, account, since: iso(since.getTime()) }));
}

/** What works, what struggles, what needs a person: the Now page and `rk status`. */
export async function showStatus(s: Services): Promise<Status> {
  const now = s.ports.clock.now();
  const [counted, unwell, counts, lastMinute, queue, usage, replicas, installation, numbers] = await Promise.all([
    countByFacts(s),
    readConnections(s, { unwell: true, limit: LOOKED_AT_MOST }),
    s.history.counts(['renewed', 'renewal_failed', 'needs_person'], now - HOUR_MS),
    s.history.counts(['renewed'], now - MINUTE_MS),
    s.renewals.queue(),
    s.database.select<{ outcome: string; n: number | bigint | string }>(
      'SELECT outcome, SUM(count) AS n FROM usage_minutes WHERE minute > $1 GROUP BY outcome',
      [instantText(now - HOUR_MS)],
    ),
    listReplicas(s),
    installationState(s),
    s.database.select<{ providers: number | bigint; clients: number | bigint; callers: number | bigint }>(
      'SELECT (SELECT COUNT(*) FROM providers) AS providers, (SELECT COUNT(*) FROM clients) AS clients, (SELECT COUNT(*) FROM callers) AS callers',
    ),
  ]);
  const health = counted.map((one) => ({ count: one.count, ...connectionHealth(one.facts, now) }));
  const sum = (matches: (one: (typeof health)[number]) => boolean) => health.filter(matches).reduce((total, one) => total + one.count, 0);
  const inState = (state: ConnectionSummary['state']) => sum((one) => one.state === state);
  const [total, working, idle, struggling, person] = [sum(() => true), inState('working'), inState('idle'), inState('struggling'), inState('needs_person')];
  const order: ConnectionSummary['state'][] = ['needs_person', 'struggling', 'draft'];
  const attention = order.flatMap((state) => unwell.filter((one) => connectionHealth(one.facts, now).state === state)).slice(0, ATTENTION_MOST);
  const used = (outcome: string) => Number(usage.find((row) => row.outcome === outcome)?.n ?? 0);
  return {
    at: iso(now),
    version: s.version,
    public_url: s.settings.publicUrl,
    installation,
    connections: {
      total,
      working,
      idle,
      struggling,
      needs_person: person,
      at_risk: sum((one) => one.cause_key === 'at_risk'),
      other: total - working - idle - struggling - person,
    },
    approvals: await approvals(s, now),
    decisions: await decisions(s),
    revocations: Number((await s.database.select<{ n: number | bigint }>('SELECT COUNT(*) AS n FROM revocations'))[0]?.n ?? 0),
    groups: await causeGroups(s, counted, now),
    endpoints: s.lanes.view(now).map((one) => ({ origin: one.origin, running: one.running, left_alone_until: isoOrNull(one.openUntilAt) })),
    attention: await summaries(s, attention, TICKS_IN_LISTS),
    renewals: {
      last_hour: counts.renewed ?? 0,
      last_minute: lastMinute.renewed ?? 0,
      failed_last_hour: (counts.renewal_failed ?? 0) + (counts.needs_person ?? 0),
      due_now: queue.due,
      oldest_due_at: isoOrNull(queue.oldestAt),
      unsaved: s.keeper.unsaved(),
      spilled: s.spill.waiting(),
    },
    handouts: { last_hour: used('token'), relayed_last_hour: used('relayed'), refused_last_hour: used('refused') + used('limited') },
    providers: Number(numbers[0]?.providers ?? 0),
    clients: Number(numbers[0]?.clients ?? 0),
    callers: Number(numbers[0]?.callers ?? 0),
    replicas,
  };
}
