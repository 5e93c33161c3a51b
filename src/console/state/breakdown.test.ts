import { expect, test } from 'vitest';
import { callerBars, hrefOfQuota, quotaTone } from './breakdown.ts';

test('bars are parts of the longest one, and nothing is drawn of nothing', () => {
  expect(callerBars([])).toEqual([]);
  expect(
    callerBars([
      { caller: 'board', tokens: 50, relayed: 30, rejected: 20 },
      { caller: 'calm', tokens: 10, relayed: 0, rejected: 0 },
    ]),
  ).toEqual([
    { caller: 'board', tokens: 50, relayed: 30, rejected: 20, says: '80, 20 rejected' },
    { caller: 'calm', tokens: 10, relayed: 0, rejected: 0, says: '10' },
  ]);
});

test.each([
  [10, 'good'],
  [75, 'warn'],
  [95, 'bad'],
  [120, 'bad'],
])('a quota used by %i %% is %s', (percent, tone) => expect(quotaTone(percent)).toBe(tone));

test('a quota leads to the client or the connection that it limits', () => {
  expect(hrefOfQuota({ of: 'client', name: 'wharfpost/counter' })).toBe('#/providers/wharfpost/clients/counter');
  expect(hrefOfQuota({ of: 'connection', name: 'forum' })).toBe('#/connections/forum/used-by');
});
