import { expect, test } from 'vitest';
import { withFollowUps } from './follow-ups.ts';
import { type Cause, type Notice, reconcile } from './notice.ts';

const NOW = Date.UTC(2027, 0, 4);
const DAY_MS = 86_400_000;
const cause = (more: Partial<Cause>): Cause => ({
  ...{ key: '', kind: 'connections', severity: 'action', subject: 'installation', title: 'One', evidence: '', remedy: '', page: '', command: '' },
  ...{ labels: [], count: 1, dueAt: null, settleMs: 0 },
  ...more,
});
const CLIENT = '/providers/eelgrass/clients/timetable';
const refusedClient = cause({ key: 'connections:eelgrass/timetable:action_needed:client_refused', page: CLIENT, count: 40 });
const refusedGrant = cause({ key: 'connections:eelgrass/timetable:action_needed:refused', page: '/connections/sailings' });
const secret = (days: number) => cause({ key: 'upcoming:secret-1', kind: 'upcoming', page: `${CLIENT}/credentials`, dueAt: NOW + days * DAY_MS });
const grant = (days: number) => cause({ key: 'upcoming:grant-1', kind: 'upcoming', page: '/connections/sailings', dueAt: NOW + days * DAY_MS });

test.each<[string, Cause[], boolean]>([
  ['a client rejected after its secret expired', [refusedClient, secret(-1)], true],
  ['a client rejected while its secret is good', [refusedClient, secret(3)], false],
  ['a client rejected because its approval was withdrawn', [refusedClient, cause({ kind: 'approval', page: CLIENT })], true],
  ['a client rejected beside news of its approval', [refusedClient, cause({ kind: 'approval', page: CLIENT, severity: 'info' })], false],
  ['a connection whose grant expired', [refusedGrant, grant(-1)], true],
  ['a connection whose grant has time left', [refusedGrant, grant(1)], false],
  ['several connections, one of which expired', [{ ...refusedGrant, count: 2 }, grant(-1)], false],
])('%s', (_name, causes, follows) => {
  expect(withFollowUps(causes, NOW)[0]?.follows ?? false).toBe(follows);
});

test('what follows is never opened, and one that was open ends without an all-clear', () => {
  const open: Notice = {
    ...{ ...refusedClient, key: refusedClient.key },
    ...{ id: 'n1', state: 'open', firstSeenAt: NOW - DAY_MS, openedAt: NOW - DAY_MS, goneSince: null, closedAt: null, reminded: 0, returns: 0 },
    ...{ acknowledgedBy: null, acknowledgedAt: null, assignedTo: null, snoozedUntil: null, revision: 1 },
  };
  const causes = withFollowUps([refusedClient, secret(-1)], NOW);
  const ofClient = (kept: Notice[]) =>
    reconcile(kept, causes, NOW, 60_000).filter((one) => ('notice' in one ? one.notice.key : one.cause.key) === refusedClient.key);
  expect(ofClient([])).toEqual([]);
  expect(ofClient([{ ...open, state: 'pending', openedAt: null }])).toMatchObject([{ is: 'discarded' }]);
  expect(ofClient([open])).toMatchObject([{ is: 'changed', set: { state: 'closed' }, event: null }]);
});
