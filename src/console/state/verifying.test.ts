import { expect, test } from 'vitest';
import { Verifying } from './verifying.svelte.ts';

const piece = { checked: 50_000, chains: 2, next: null, broken: null, unchained: null };
test('pieces are added up to the end; what is broken is shown and ends it', async () => {
  const cursors: (string | null)[] = [];
  const whole = new Verifying(async (cursor) => {
    cursors.push(cursor);
    return { ...piece, next: cursor === null ? 'a:50000' : null, unchained: cursor === null ? null : { count: 7, newest_at: null } };
  });
  await whole.start();
  expect([cursors, whole.says]).toEqual([
    [null, 'a:50000'],
    'Verified: 100000 entries in 2 chains are as they were written. 7 entries of earlier versions stand in no chain.',
  ]);
  const broken = { chain: null, entry: 'e', at: null, says: 'Paused it.', why: 'This entry was changed.' };
  const cut = new Verifying(async () => ({ ...piece, next: 'a:1', broken }));
  await cut.start();
  expect([cut.broken, cut.busy]).toEqual([broken, false]);
});
