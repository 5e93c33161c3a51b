import type { BodyOf } from '../../api/operations.ts';
import type { Campaign, Invitation, Person, PersonCounts } from '../../api/people.ts';
import { STATES } from '../../api/vocabulary.ts';
import { type Column, TableState } from '../ui/table.svelte.ts';

const NEVER = '9';
export const PERSON_COLUMNS: readonly Column<Person>[] = [
  { key: 'person', label: 'Person', sortBy: (one) => one.name ?? one.person, class: 'font-semibold' },
  { key: 'state', label: 'State', sortBy: (one) => one.state },
  { key: 'account', label: 'Account', sortBy: (one) => one.account ?? '' },
  { key: 'missing', label: 'Not allowed' },
  { key: 'connected', label: 'Connected', sortBy: (one) => one.connected_at ?? NEVER, class: 'lg:w-28' },
];
export const personTable = (): TableState<Person> => new TableState(PERSON_COLUMNS, (one) => one.handle);

export const INVITATION_COLUMNS: readonly Column<Invitation>[] = [
  { key: 'person', label: 'Person', sortBy: (one) => one.name ?? one.person, class: 'font-semibold' },
  { key: 'for', label: 'For', sortBy: (one) => one.caller ?? '' },
  { key: 'state', label: 'State', sortBy: (one) => one.state },
  { key: 'made', label: 'Made', sortBy: (one) => one.created_at, class: 'lg:w-28' },
  { key: 'expires', label: 'Expires', sortBy: (one) => one.expires_at, class: 'lg:w-28' },
  { key: 'end', label: '' },
];
export const invitationTable = (): TableState<Invitation> => new TableState(INVITATION_COLUMNS, (one) => one.id);

/** Shares of all people by state, the largest first, for a bar of one line. */
export function shares(counts: PersonCounts): { state: Person['state']; label: string; count: number; percent: number }[] {
  const total = counts.reduce((sum, one) => sum + one.count, 0);
  const byState = new Map<Person['state'], number>();
  for (const one of counts) byState.set(one.state, (byState.get(one.state) ?? 0) + one.count);
  return [...byState]
    .map(([state, count]) => ({ state, label: STATES[state].label, count, percent: total === 0 ? 0 : (100 * count) / total }))
    .sort((a, b) => b.count - a.count);
}

/** Causes for which someone must act, the most frequent first: "3 refused, 1 no refresh token"; empty: nobody must. */
export const causesInWords = (counts: PersonCounts): string =>
  counts
    .filter((one) => one.state === 'action_needed' && one.cause_key !== null)
    .sort((a, b) => b.count - a.count)
    .map((one) => `${one.count.toLocaleString('en-US')} ${one.cause_key?.replaceAll('_', ' ')}`)
    .join(', ');

/** Whole percent of people who granted everything, never rounded up to all. */
export const percentOf = ({ have, people }: Pick<Campaign, 'have' | 'people'>): number => (people === 0 ? 0 : Math.floor((100 * have) / people));

/** "3 of 10 granted all (30 %), 5 asked, 1 asked as often as allowed." */
export function campaignInWords(one: Campaign): string {
  const count = (figure: number): string => figure.toLocaleString('en-US');
  const enough = one.exhausted > 0 ? `, ${count(one.exhausted)} asked as often as allowed` : '';
  return `${count(one.have)} of ${count(one.people)} granted all (${percentOf(one)} %), ${count(one.asked)} asked${enough}.`;
}

/** What the form for an invitation holds. Runs without a page. */
export class InviteDraft {
  person = $state('');
  name = $state('');
  purpose = $state('');
  caller = $state('');
  returnTo = $state('');
  account = $state('');
  days = $state(7);

  body(): BodyOf<'invitePerson'> {
    const text = (value: string): string | undefined => value.trim() || undefined;
    return {
      person: this.person,
      name: text(this.name),
      purpose: this.purpose.trim(),
      caller: text(this.caller),
      return_to: text(this.returnTo),
      expected_account: text(this.account),
      expires_in_hours: this.days * 24,
    };
  }
}
