import type { z } from 'zod';
import type { ConnectionSummary } from '../../api/connections.ts';
import type { CauseGroup, InstallationState, Status } from '../../api/status.ts';
import { Fault } from '../../core/fault.ts';
import { groupInWords, remedyFor } from '../../core/health.ts';
import { ofClientKey, ofProviderKey } from '../../core/notices/connections-key.ts';
import { iso, isoOrNull } from '../iso.ts';
import { type Asked, type Command, limitsOf } from '../operation-call.ts';
import { summaries, TICKS_IN_LISTS } from '../records/index.ts';
import { listReplicas } from '../replicas/index.ts';
import type { StateCount } from '../store/connection-list.ts';
import type { StatusParts } from './parts.ts';

const MINUTE_MS = 60_000;
const HOUR_MS = 3_600_000;
const MAX_ATTENTION = 50;
const MAX_GROUPS = 50;
/** The worst first. */
const ATTENTION = ['action_needed', 'degraded', 'draft'] as const;

export async function installationState(s: Pick<StatusParts, 'hold' | 'isPractice' | 'keeper' | 'refusals'>): Promise<z.output<typeof InstallationState>> {
  const { held, why, heldAt } = await s.hold.state();
  const refusal = s.refusals.state();
  return {
    ...{ held, why, held_at: isoOrNull(heldAt), practice: s.isPractice },
    writes_refused: refusal && { since: iso(refusal.since), says: refusal.says, waiting: s.keeper.unsaved() },
  };
}

/** Renewals go on here, after the origin has stopped where it answers. @throws {Fault} PRACTICE_RESTORE */
export async function ownInstallation(
  s: Parameters<typeof installationState>[0] & { moveHere(): Promise<void> },
  { actor }: Pick<Command<'ownInstallation'>, 'actor'>,
): Promise<z.output<typeof InstallationState>> {
  if (s.isPractice) throw new Fault('PRACTICE_RESTORE');
  await s.moveHere();
  await s.hold.own(actor.operator.name);
  return installationState(s);
}

const isTrouble = (one: StateCount): one is StateCount & { causeKey: NonNullable<StateCount['causeKey']>; state: 'degraded' | 'action_needed' } =>
  one.causeKey !== null && (one.state === 'degraded' || one.state === 'action_needed');

/** Degraded and needs-person connections by cause: one line, one remedy, however many there are. */
async function causeGroups(s: Pick<StatusParts, 'store'>, counted: readonly StateCount[]): Promise<CauseGroup[]> {
  if (!counted.some(isTrouble)) return [];
  const told = await s.store.notices.openKeys();
  const titles = new Map((await s.store.providers.all()).map((provider) => [provider.name, provider.title]));
  const groups = counted.flatMap((one): CauseGroup[] => {
    if (!isTrouble(one)) return [];
    return [
      {
        state: one.state,
        cause_key: one.causeKey,
        provider: one.provider,
        client: one.client,
        says: groupInWords(one.causeKey, titles.get(one.provider) ?? one.provider, `${one.provider}/${one.client}`),
        count: one.count,
        remedy: remedyFor(one.causeKey),
        evidence: one.causeKey === 'client_refused' ? one.evidence : null,
        example: one.example,
        has_notice: told.has(ofClientKey(one)) || told.has(ofProviderKey(one.provider)),
      },
    ];
  });
  const weight = (group: CauseGroup) => (group.state === 'action_needed' ? 1e9 : 0) + group.count;
  return groups.sort((a, b) => weight(b) - weight(a)).slice(0, MAX_GROUPS);
}

const APPROVED_NEWS_DAYS = 14;
const MAX_APPROVALS = 50;

async function approvals(s: StatusParts, now: number): Promise<Status['approvals']> {
  const since = iso(now - APPROVED_NEWS_DAYS * 24 * HOUR_MS).slice(0, 10);
  return (await s.store.clients.approvalNews(since, MAX_APPROVALS)).map(({ seenAt, ...one }) => ({ ...one, seen_at: isoOrNull(seenAt) }));
}

/** Tokens that are not as expected, and about which nobody has decided. */
async function decisions(s: StatusParts, labels: readonly string[] | undefined): Promise<Status['decisions']> {
  return (await s.store.connectionList.undecided(MAX_APPROVALS, labels)).map((one) => ({ ...one, since: iso(one.since) }));
}

async function figuresOfAll(s: StatusParts, now: number) {
  const [history, lastMinute, queue, usage, revocations] = await Promise.all([
    s.history.counts(['renewed', 'renewal_failed', 'action_needed'], now - HOUR_MS),
    s.history.counts(['renewed'], now - MINUTE_MS),
    s.store.renewals.queue(),
    s.store.usage.totals(now - HOUR_MS),
    s.store.revocations.count(),
  ]);
  return { history, lastMinute, queue, usage, revocations, callers: null };
}

/** What works, what is degraded, where action is needed: the overview and `rk status`. */
export async function showStatus(s: StatusParts, { actor }: Asked<'showStatus'>): Promise<Status> {
  const labels = limitsOf(actor.operator);
  await s.connectionStates.settle();
  const now = s.ports.clock.now();
  const { connectionList: list } = s.store;
  const [counted, worst, installation, objects, figures] = await Promise.all([
    list.countStates(labels),
    Promise.all(ATTENTION.map((state) => list.read({ state, labels, limit: MAX_ATTENTION }))),
    installationState(s),
    list.objects(),
    labels === undefined ? figuresOfAll(s, now) : s.store.limits.figures(labels, now - HOUR_MS, now - MINUTE_MS),
  ]);
  const { history: counts, lastMinute, queue, usage, revocations } = figures;
  // An account that is limited sees nothing of machines and of what all connections do together.
  const whole = labels === undefined;
  const sum = (matches: (one: StateCount) => boolean) => counted.filter(matches).reduce((total, one) => total + one.count, 0);
  const inState = (state: ConnectionSummary['state']) => sum((one) => one.state === state);
  const [total, working, idle, degraded, person] = [sum(() => true), inState('working'), inState('idle'), inState('degraded'), inState('action_needed')];
  const used = (outcome: string) => usage[outcome] ?? 0;
  return {
    at: iso(now),
    version: s.version,
    public_url: s.settings.publicUrl,
    installation,
    connections: {
      total,
      working,
      idle,
      degraded,
      action_needed: person,
      at_risk: sum((one) => one.causeKey === 'at_risk'),
      other: total - working - idle - degraded - person,
    },
    approvals: await approvals(s, now),
    decisions: await decisions(s, labels),
    revocations,
    groups: await causeGroups(s, counted),
    endpoints: (whole ? s.lanes.view(now) : []).map((one) => ({ origin: one.origin, running: one.running, paused_until: isoOrNull(one.openUntilAt) })),
    attention: await summaries(s, worst.flat().slice(0, MAX_ATTENTION), TICKS_IN_LISTS),
    renewals: {
      last_hour: counts.renewed ?? 0,
      last_minute: lastMinute.renewed ?? 0,
      failed_last_hour: (counts.renewal_failed ?? 0) + (counts.action_needed ?? 0),
      due_now: queue.due,
      oldest_due_at: isoOrNull(queue.oldestAt),
      unsaved: whole ? s.keeper.unsaved() : 0,
      spilled: whole ? s.spill.waiting() : 0,
    },
    issued: { last_hour: used('token'), relayed_last_hour: used('relayed'), refused_last_hour: used('refused') + used('limited') },
    ...objects,
    callers: figures.callers ?? objects.callers,
    replicas: whole ? await listReplicas(s) : [],
  };
}
