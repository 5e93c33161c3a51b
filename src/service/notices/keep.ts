import { plannedAt } from '../../core/notices/channel.ts';
import { type Cause, type Change, type Notice, type NoticeEvent, RETURNS_WITHIN_MS, reconcile } from '../../core/notices/notice.ts';
import { recordId } from '../ports.ts';
import { runPeriodically } from '../run-periodically.ts';
import type { ChannelRow } from '../store/channels.ts';
import type { NoticeDelivery, NoticeRow } from '../store/notices.ts';
import { causesNow, slowCauses } from './causes.ts';
import type { NoticeParts } from './parts.ts';

const LOOK_MS = 3_000;
const SLOW_MS = 15_000;
const STALE_MS = 5_000;
/** So many changes in a round: the next one goes on. */
const MAX_CHANGES = 500;
const NEWS_KEPT_MS = 20 * 86_400_000;
/** Causes that appear in the same moment are sent together. */
const TOGETHER_MS = 3_000;

export const noticeOf = ({ openKey: _key, causeKey, connections, ...row }: NoticeRow): Notice => ({ ...row, key: causeKey, count: connections });

/**
 * Opens, changes and closes notices as the facts change, on every replica: whoever is first with a change makes the others' fail, so each
 * is made and sent once. Ends when stopped.
 */
export async function keepNotices(s: NoticeParts, stop: AbortSignal): Promise<void> {
  let slow: { at: number; causes: Cause[] } | null = null;
  let isStale = false;
  s.changes.onChange(() => (isStale = true)); // someone fixed something: look soon
  await runPeriodically({ ports: s.ports, everyMs: LOOK_MS, failed: 'notices were not brought up to date', stop }, async () => {
    const now = s.ports.clock.now();
    const keptMs = Math.min(isStale ? STALE_MS : SLOW_MS, s.settings.noticeSettleMs);
    if (slow === null || Math.abs(now - slow.at) >= keptMs) {
      isStale = false;
      slow = { at: now, causes: await slowCauses(s, now) };
    }
    const channels = await s.store.channels.list();
    const kept = (await s.store.notices.kept(now - RETURNS_WITHIN_MS, now - NEWS_KEPT_MS)).map(noticeOf);
    const changes = reconcile(kept, await causesNow(s, { kept, channels, slow: slow.causes }), now, s.settings.noticeSettleMs);
    if (changes.length === 0) return false;
    const enabled = channels.filter((one) => one.enabled);
    for (const change of changes.slice(0, MAX_CHANGES)) await apply(s, change, enabled, now);
    return changes.length > MAX_CHANGES;
  });
}

async function apply(s: NoticeParts, change: Change, channels: readonly ChannelRow[], now: number): Promise<void> {
  if (change.is === 'discarded') return s.store.notices.discard(change.notice);
  if (change.is === 'new') {
    const row = newRow(s, change, now);
    if ((await s.store.notices.add(row, queued(s, row, { event: change.event, channels, now }))) && change.event) note(s, row, change.event);
    return;
  }
  const { notice, set, event } = change;
  const after = { ...notice, ...set };
  if ((await s.store.notices.change(notice, stored(notice, set), queued(s, after, { event, channels, now }))) && event) note(s, after, event);
}

/** Its key is free for another one while it is closed. */
function stored(notice: Notice, { key: _key, count, ...set }: Partial<Notice>): Partial<NoticeRow> {
  const keyOf = set.state === undefined ? {} : { openKey: set.state === 'closed' ? null : notice.key };
  return { ...cut(set), ...keyOf, ...(count === undefined ? {} : { connections: count }) };
}
const LIMITS = { subject: 200, title: 300, evidence: 600, remedy: 600, page: 300, command: 300 } as const;
/** Texts as long as their columns. */
function cut<T extends { [K in keyof typeof LIMITS]?: string }>(set: T): T {
  const short = Object.entries(LIMITS).flatMap(([key, most]) => {
    const value = set[key as keyof typeof LIMITS];
    return value === undefined || value.length <= most ? [] : [[key, `${value.slice(0, most - 1)}\u2026`]];
  });
  return { ...set, ...Object.fromEntries(short) };
}

function newRow(s: NoticeParts, { cause, state, reminded }: Extract<Change, { is: 'new' }>, now: number): NoticeRow {
  const { key, count, settleMs: _settle, follows: _follows, ...of } = cause;
  return {
    ...cut(of),
    id: recordId(s.ports),
    openKey: key,
    causeKey: key,
    connections: count,
    state,
    reminded,
    firstSeenAt: now,
    openedAt: state === 'open' ? now : null,
    ...{ goneSince: null, closedAt: null, returns: 0, acknowledgedBy: null, acknowledgedAt: null, assignedTo: null, snoozedUntil: null, revision: 0 },
  };
}

/** What channels send of a notice, each by its rule. */
export const queued = (
  s: NoticeParts,
  notice: Pick<Notice, 'id' | 'severity' | 'labels'>,
  { event, channels, now }: { event: NoticeEvent | null; channels: readonly ChannelRow[]; now: number },
): NoticeDelivery[] =>
  event === null
    ? []
    : channels.flatMap((channel): NoticeDelivery[] => {
        const at = plannedAt(channel.rule, notice, now);
        if (at === null) return [];
        const nextAt = at === now ? now + TOGETHER_MS : at;
        return [{ id: recordId(s.ports), noticeId: notice.id, channelId: channel.id, event, state: 'waiting', createdAt: now, nextAt, says: '' }];
      });

/** Opening and closing stand in the history; reminders are seen at the notice. */
function note(s: NoticeParts, { subject, title }: Pick<NoticeRow, 'subject' | 'title'>, event: NoticeEvent): void {
  if (event === 'reminder') return;
  const words = { opened: 'Notice opened', worse: 'Notice became worse', closed: 'Notice closed' };
  s.history.add({ actor: 'service', kind: `notice_${event}`, subject, says: `${words[event]}: ${title}.` });
}
