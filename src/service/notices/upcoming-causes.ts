import type { Upcoming } from '../../core/forecast/forecast.ts';
import type { Cause } from '../../core/notices/notice.ts';
import { upcomingTitle, withoutAccount } from '../../core/notices/upcoming-title.ts';
import { upcoming } from '../forecast/index.ts';
import type { NoticeParts } from './parts.ts';
import { PLAIN } from './plain-cause.ts';

const UPCOMING_DAYS = 30;
/** More of one kind than that are one notice: they have one date for the first, and one page. */
const MAX_ONE_BY_ONE = 20;

export async function upcomingCauses(s: NoticeParts, now: number): Promise<Cause[]> {
  const items = (await upcoming(s, UPCOMING_DAYS)).filter((one) => one.noticeAt <= now);
  const byKind = new Map<string, Upcoming[]>();
  for (const one of items) byKind.set(one.kind, [...(byKind.get(one.kind) ?? []), one]);
  return [...byKind.values()].flatMap((all) => (all.length > MAX_ONE_BY_ONE ? [together(all, now)] : all.map((one) => upcomingCause(one, now))));
}

/** What nothing depends on, and awaited approvals, are good to know; whatever else stops needs action from the latest moment to begin. */
function upcomingSeverity({ kind, at, actBy, who }: Upcoming, now: number): Cause['severity'] {
  const isSpare = kind === 'invitations' || kind === 'standby';
  if (who === 'provider' || (isSpare && at > now)) return 'info';
  return actBy <= now ? 'action' : 'warning';
}
/** The object on whose page it is fixed. */
function subjectOf(page: string): string {
  const [, room = '', name = '', , client = ''] = page.split('/');
  if (room === 'connections') return `connection:${name}`;
  if (room === 'callers') return `caller:${name}`;
  return room === 'providers' && client !== '' ? `client:${name}/${client}` : 'installation';
}

const upcomingCause = (one: Upcoming, now: number): Cause => ({
  ...PLAIN,
  key: `upcoming:${one.key}`.slice(0, 190),
  kind: 'upcoming',
  severity: upcomingSeverity(one, now),
  subject: subjectOf(one.page),
  title: upcomingTitle(one, now),
  evidence: one.breaks.callers.length > 0 ? `Used by ${one.breaks.callers.slice(0, 5).join(', ')}` : '',
  remedy: one.remedy,
  page: one.page,
  command: one.command,
  labels: one.labels,
  count: one.breaks.connections,
  dueAt: one.at,
});
function together(all: readonly Upcoming[], now: number): Cause {
  const [first] = all as [Upcoming, ...Upcoming[]];
  return {
    ...upcomingCause(first, now),
    key: `upcoming:many:${first.kind}`,
    subject: 'installation',
    title: `${all.length} of one kind expire within ${UPCOMING_DAYS} days, the first: ${withoutAccount(first)}`,
    page: '/upcoming',
    command: `rk upcoming --days ${UPCOMING_DAYS}`,
    labels: [...new Set(all.flatMap((one) => one.labels))].sort(),
    count: all.reduce((sum, one) => sum + one.breaks.connections, 0),
  };
}
