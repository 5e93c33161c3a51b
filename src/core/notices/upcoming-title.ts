import type { Upcoming } from '../forecast/forecast.ts';

const OF_ACCOUNTS = ['grant', 'test_phase', 'standby'];

/** What is upcoming, without whose account it is: that stands in the console, and messages hold no personal data beyond names. */
export const withoutAccount = ({ kind, what }: Pick<Upcoming, 'kind' | 'what'>): string =>
  OF_ACCOUNTS.includes(kind) ? what.replace(/ \([^)]*\)$/, '') : what;

/** As a sentence. `3 unused invitations to crew, the first` is a line of a table; a sentence needs no first. */
export function upcomingTitle(one: Pick<Upcoming, 'kind' | 'what' | 'at'>, now: number): string {
  const plainly = withoutAccount(one);
  const subject = plainly.replace(/, the first$/, '');
  const isMany = subject !== plainly && !/^1 |of 1 /.test(subject);
  if (one.kind === 'quota') return `${subject} ${one.at <= now ? 'is used up' : 'will be used up by jobs'}`;
  if (one.kind === 'disk') return `${subject} ${one.at <= now ? 'is full' : 'is filling up'}`;
  if (one.at <= now) return `${subject} ${isMany ? 'have' : 'has'} expired`;
  return `${subject} ${isMany ? 'expire' : 'expires'}`;
}
