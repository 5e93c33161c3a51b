/** What a person should know: one notice for each cause, opened and closed automatically. Instants are epoch ms. Pure. */
export const NOTICE_SEVERITIES = ['action', 'warning', 'info'] as const;
export type NoticeSeverity = (typeof NOTICE_SEVERITIES)[number];
export const NOTICE_KINDS = ['connections', 'upcoming', 'approval', 'definition', 'job', 'delivery', 'installation'] as const;
export type NoticeKind = (typeof NOTICE_KINDS)[number];
/** `pending`: seen, but not for long enough to be sent. */
export const NOTICE_STATES = ['pending', 'open', 'closed'] as const;
type NoticeState = (typeof NOTICE_STATES)[number];
/** What a notice reports to channels. */
export const NOTICE_EVENTS = ['opened', 'worse', 'reminder', 'closed'] as const;
export type NoticeEvent = (typeof NOTICE_EVENTS)[number];

/** Something that is true now, and that someone should know. */
export interface Cause {
  /** Kind, object and cause: the same key is the same notice until it is closed. */
  key: string;
  kind: NoticeKind;
  severity: NoticeSeverity;
  /** As in the history: `client:berthline/harbour`. */
  subject: string;
  title: string;
  evidence: string;
  remedy: string;
  /** The page of the console, and the command of `rk`, where it is fixed. */
  page: string;
  command: string;
  /** Labels of the connections concerned, so that channels can be narrow. */
  labels: string[];
  /** Connections concerned. */
  count: number;
  /** When something stops; null: it has no date. */
  dueAt: number | null;
  /** How long it must last before it is sent, and be gone before it counts as over. */
  settleMs: number;
  /** It only follows from something that has its own notice, and gets none. */
  follows?: boolean;
}

/** A notice as it is kept. */
export interface Notice extends Omit<Cause, 'settleMs' | 'follows'> {
  id: string;
  state: NoticeState;
  firstSeenAt: number;
  openedAt: number | null;
  /** Since when the cause is not seen any more; null: it is seen. */
  goneSince: number | null;
  closedAt: number | null;
  /** The last reminder, in days: before the date, or since it was opened. 0: none yet. */
  reminded: number;
  /** How often it came back soon after it was closed. */
  returns: number;
  acknowledgedBy: string | null;
  acknowledgedAt: number | null;
  assignedTo: string | null;
  snoozedUntil: number | null;
  revision: number;
}

/** One change of one notice; `event`: what channels send of it. */
export type Change =
  | { is: 'new'; cause: Cause; state: 'pending' | 'open'; reminded: number; event: 'opened' | null }
  | { is: 'changed'; notice: Notice; set: Partial<Notice>; event: NoticeEvent | null }
  | { is: 'discarded'; notice: Notice };

const DAY_MS = 86_400_000;
/** Before the date where there is one; else since it was opened. */
const REMIND_DAYS = [30, 14, 7, 1] as const;
/** A cause that comes back within this time is the same notice. */
export const RETURNS_WITHIN_MS = 3_600_000;
const MAX_SETTLE_MS = 3_600_000;

/** A cause that keeps coming back must be gone for longer each time, so that nobody gets a message every minute. */
const settledAfterMs = (settleMs: number, returns: number): number => Math.min(MAX_SETTLE_MS, settleMs * 2 ** Math.min(returns, 16));

/** The least of the thresholds that the date has passed: 14 where 12 days are left. 0: none. */
const passedBefore = (dueAt: number, now: number): number => REMIND_DAYS.filter((days) => dueAt - now <= days * DAY_MS).at(-1) ?? 0;
const passedSince = (openedAt: number, now: number): number => REMIND_DAYS.find((days) => now - openedAt >= days * DAY_MS) ?? 0;

/** The next reminder that has come, in days; null: none. Whoever acknowledged it hears of it again only one day before its date. */
function reminderOf(notice: Notice, cause: Cause, now: number): number | null {
  if (notice.openedAt === null || (notice.snoozedUntil !== null && notice.snoozedUntil > now)) return null;
  if (cause.dueAt !== null) {
    const passed = passedBefore(cause.dueAt, now);
    const isNew = passed > 0 && (notice.reminded === 0 || passed < notice.reminded);
    return isNew && (notice.acknowledgedBy === null || passed === 1) ? passed : null;
  }
  const passed = passedSince(notice.openedAt, now);
  return cause.severity === 'action' && notice.acknowledgedBy === null && passed > notice.reminded ? passed : null;
}

const SHOWN = ['severity', 'title', 'evidence', 'remedy', 'page', 'command', 'count', 'dueAt', 'subject', 'kind'] as const;
const rank = (severity: NoticeSeverity): number => NOTICE_SEVERITIES.indexOf(severity);

/**
 * Compares what is true now with the notices that are kept, and says what to change. The same facts at the same time give no change, and
 * whoever applies a change first makes the others' fail (`revision`).
 * @param kept those that are not closed, and those closed within {@link RETURNS_WITHIN_MS}
 * @param settleMs how long a cause that comes and goes must be gone before it counts as fixed
 */
export function reconcile(kept: readonly Notice[], causes: readonly Cause[], now: number, settleMs: number): Change[] {
  const byKey = new Map<string, Notice>();
  // Where a closed one and an open one have one key, the open one counts.
  for (const notice of [...kept].sort((a, b) => Number(a.state !== 'closed') - Number(b.state !== 'closed'))) byKey.set(notice.key, notice);
  const seen = new Set<string>();
  const changes: Change[] = [];
  for (const cause of causes) {
    if (seen.has(cause.key)) continue;
    seen.add(cause.key);
    const notice = byKey.get(cause.key);
    if (cause.follows) {
      const change = notice && silenced(notice, now);
      if (change) changes.push(change);
      continue;
    }
    const change = notice ? stillTrue(notice, cause, now) : appeared(cause, now);
    if (change) changes.push(change);
  }
  for (const notice of byKey.values()) {
    if (seen.has(notice.key)) continue;
    const change = gone(notice, now, settleMs);
    if (change) changes.push(change);
  }
  return changes;
}

function appeared(cause: Cause, now: number): Change {
  const isOpen = cause.settleMs === 0;
  return { is: 'new', cause, state: isOpen ? 'open' : 'pending', reminded: firstReminded(cause, now), event: isOpen ? 'opened' : null };
}
/** The message that opens it is the reminder of that day. */
const firstReminded = (cause: Cause, now: number): number => (cause.dueAt === null ? 0 : passedBefore(cause.dueAt, now));

function stillTrue(notice: Notice, cause: Cause, now: number): Change | null {
  const set: Partial<Notice> = {};
  for (const key of SHOWN) if (notice[key] !== cause[key]) Object.assign(set, { [key]: cause[key] });
  if (notice.labels.join(' ') !== cause.labels.join(' ')) set.labels = cause.labels;
  if (notice.goneSince !== null) set.goneSince = null;
  let event: NoticeEvent | null = null;
  if (notice.state === 'closed') {
    Object.assign(set, { state: 'open', closedAt: null, openedAt: now, returns: notice.returns + 1, reminded: firstReminded(cause, now) });
    Object.assign(set, { acknowledgedBy: null, acknowledgedAt: null, snoozedUntil: null });
    event = 'opened';
  } else if (notice.state === 'pending') {
    if (now - notice.firstSeenAt >= cause.settleMs) {
      Object.assign(set, { state: 'open', openedAt: now, reminded: firstReminded(cause, now) });
      event = 'opened';
    }
  } else if (rank(cause.severity) < rank(notice.severity)) {
    // What was acknowledged was less than this.
    Object.assign(set, { acknowledgedBy: null, acknowledgedAt: null, snoozedUntil: null });
    // This message is the reminder of the day, too.
    if (cause.dueAt !== null) set.reminded = passedBefore(cause.dueAt, now) || notice.reminded;
    event = 'worse';
  } else {
    const reminder = reminderOf(notice, cause, now);
    const isAwake = notice.snoozedUntil !== null && notice.snoozedUntil <= now;
    if (reminder !== null) set.reminded = reminder;
    if (isAwake) set.snoozedUntil = null;
    if (reminder !== null || isAwake) event = 'reminder';
  }
  return Object.keys(set).length > 0 ? { is: 'changed', notice, set, event } : null;
}

function gone(notice: Notice, now: number, settleMs: number): Change | null {
  if (notice.state === 'closed') return null;
  const waitMs = settledAfterMs(COMES_AND_GOES.includes(notice.kind) ? settleMs : 0, notice.returns);
  if (now - (notice.goneSince ?? now) < waitMs) return notice.goneSince === null ? { is: 'changed', notice, set: { goneSince: now }, event: null } : null;
  if (notice.state === 'pending') return { is: 'discarded', notice };
  return { is: 'changed', notice, set: { state: 'closed', closedAt: now, goneSince: null }, event: 'closed' };
}

/** Another notice speaks of it: this one ends without a message, because nothing is fixed. */
function silenced(notice: Notice, now: number): Change | null {
  if (notice.state === 'closed') return null;
  if (notice.state === 'pending') return { is: 'discarded', notice };
  return { is: 'changed', notice, set: { state: 'closed', closedAt: now, goneSince: null }, event: null };
}

/** Of these kinds one success does not prove that it stays so; the others end by what someone did. */
const COMES_AND_GOES: readonly NoticeKind[] = ['connections', 'delivery', 'installation'];
