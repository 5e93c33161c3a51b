import { expect, test } from 'vitest';
import type { Connection } from '../../api/connections.ts';
import type { StatisticsHour } from '../../api/statistics.ts';
import { chartInWords, RENEWALS, stacked, USES } from '../ui/chart.ts';
import { tabOf } from '../ui/tabs.ts';
import { filterAddress, filterQuery, readFilter } from './connection-filter.ts';
import { connectionWords } from './connection-words.ts';
import { firstSteps } from './first-steps.ts';
import { outcomeWords } from './outcome-words.ts';
import { subjectLink } from './subject-link.ts';

const connection = (more: Partial<Connection>) =>
  ({
    state: 'working',
    consented_at: '2026-11-28T10:00:00Z',
    grant_type: 'authorization_code',
    grant_kind: 'consented',
    ways: ['redirect'],
    account: 'marit.holm@saltmarsh.example',
    has_refresh_token: true,
    next_renewal_at: '2026-11-28T11:00:00Z',
    expected_account: null,
    ...more,
  }) as Connection;

test.each([
  { name: 'renewed', given: {}, want: { consent: 'Reconnect', account: 'marit.holm@saltmarsh.example', refreshToken: { isWarning: false } } },
  { name: 'a draft', given: { consented_at: null, account: null }, want: { consented: false, consent: 'Go to consent', account: 'None yet' } },
  {
    name: 'without a refresh token',
    given: { has_refresh_token: false },
    want: { refreshToken: { says: 'None: ends with its access token', isWarning: true } },
  },
  { name: 'rejected', given: { next_renewal_at: null }, want: { refreshToken: { says: 'Rejected by the provider', isWarning: true } } },
  {
    name: 'a client for itself',
    given: { grant_type: 'client_credentials' as const, ways: ['by_itself' as const] },
    want: { own: true, consent: 'Request again', account: 'None: the client authenticates as itself' },
  },
  { name: 'a static key', given: { grant_kind: 'static_key' as const }, want: { isKey: true, own: false, consentedAs: 'Key set' } },
  { name: 'a client whose answer is pasted', given: { ways: ['pasted' as const] }, want: { way: 'pasted' } },
])('the words of a connection: $name', ({ given, want }) => {
  expect(connectionWords(connection(given))).toMatchObject(want);
});

test('the filters of the list go into the address and come back; a client without a provider, an unknown state and empty ones are left out', () => {
  const filter = { search: 'tide & more', state: 'degraded', provider: 'eelgrass', client: 'office', label: 'deck' } as const;
  const address = filterAddress(filter);
  expect(readFilter(address.slice(address.indexOf('?') + 1))).toEqual(filter);
  expect(filterQuery(readFilter('state=odd&client=office&search=%20'))).toEqual({});
  expect(filterAddress(readFilter(''))).toBe('/connections');
});

test('an address names a tab; one that is not there leads to the first', () => {
  const tabs = [{ id: 'overview' }, { id: 'scopes' }];
  expect([tabOf(tabs, 'scopes'), tabOf(tabs, 'odd'), tabOf(tabs, null)]).toEqual(['scopes', 'overview', 'overview']);
});

test('a chart stacks its series from the last one up, and says its sums', () => {
  const hour = (more: Partial<StatisticsHour>): StatisticsHour => ({
    at: '2026-11-28T10:00:00Z',
    renewed: 0,
    failed: 0,
    tokens: 0,
    relayed: 0,
    rejected: 0,
    ...more,
  });
  const hours = [hour({ tokens: 3, relayed: 2, rejected: 1 }), hour({ tokens: 1, renewed: 4, failed: 1 })];
  expect(stacked(hours, USES).heights).toEqual([
    [6, 1],
    [3, 0],
    [1, 0],
  ]);
  expect(chartInWords('Renewals', hours, RENEWALS)).toBe('Renewals in the last 2 hours: 4 renewed, 1 failed.');
});

test('the first steps are done in the order of work', () => {
  const steps = firstSteps({ providers: 1, clients: 1, callers: 0, connections: { total: 0 } as never });
  expect(steps.map((step) => step.done)).toEqual([true, true, false, false]);
  for (const step of steps) expect([step.href.startsWith('#/'), step.action.length > 5]).toEqual([true, true]);
});

test.each([
  ['connection:sailings', '#/connections/sailings'],
  ['client:eelgrass/office', '#/providers/eelgrass/clients/office'],
  ['caller:board', '#/callers/board'],
  ['provider:eelgrass', '#/providers/eelgrass'],
  ['installation', undefined],
  ['operator:marit', undefined],
])('the history of %s leads to %s', (subject, href) => {
  expect(subjectLink(subject)?.href).toBe(href);
});

test.each([
  { name: 'renewed', given: { refresh_token: true }, want: { refreshToken: 'Received: the connection renews automatically' } },
  { name: 'without a refresh token', given: { refresh_token: false }, want: { refreshToken: 'Not received: the connection ends with its access token' } },
  {
    name: 'a client for itself',
    given: { by_itself: true },
    want: { account: 'None: the client acts for itself', refreshToken: 'Not needed: the client requests a new token in time' },
  },
  { name: 'an account', given: { account: { id: 'eg-1042', label: 'Marit Holm' } }, want: { account: 'Marit Holm (eg-1042)' } },
  { name: 'no lifetime', given: { access_token_life_seconds: null }, want: { account: 'Not reported by the provider', accessToken: 'No lifetime stated' } },
])('the words of a consent that came: $name', ({ given, want }) => {
  const none = { by_itself: false, account: null, refresh_token: false, access_token_life_seconds: 3600 };
  expect(outcomeWords({ ...none, ...given })).toMatchObject(want);
});
