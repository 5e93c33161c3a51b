import fc from 'fast-check';
import { expect, test } from 'vitest';
import { saveCount } from './marks.ts';

/** Statements are taken, committed and acknowledged, and marks are read and settled, in any order: each step is of one statement or one look. */
const step = fc.record({ kind: fc.constantFrom('take', 'commit', 'acknowledge', 'fail', 'read', 'settle'), at: fc.nat(5) });

test('whatever is under way while marks are read: never more is known than the database has, and at rest all of it', () => {
  fc.assert(
    fc.property(fc.array(step, { maxLength: 60 }), (steps) => {
      const count = saveCount();
      count.begin('00000000-0000-7000-8000-000000000001', 0);
      let committed = 0;
      let look = null as { since: ReturnType<typeof count.reading>; marks: number | null } | null;
      const open: { row: NonNullable<ReturnType<typeof count.take>>; isCommitted: boolean }[] = [];
      for (const { kind, at } of steps) {
        const one = open[at % Math.max(1, open.length)];
        if (kind === 'take') {
          const row = count.take('save');
          if (row) open.push({ row, isCommitted: false });
        } else if (kind === 'commit' && one && !one.isCommitted) {
          one.isCommitted = true;
          committed += 1;
        } else if ((kind === 'acknowledge' && one?.isCommitted) || (kind === 'fail' && one)) {
          // A connection that breaks leaves open whether it was committed.
          one.row.done(kind === 'fail' ? 'unknown' : 'raised');
          open.splice(open.indexOf(one), 1);
        } else if (kind === 'read') look = look?.marks === null ? { ...look, marks: committed } : { since: count.reading(), marks: null };
        else if (kind === 'settle' && look !== null && look.marks !== null) {
          count.settled(look.marks, look.since);
          look = null;
        }
        expect(count.known()).toBeLessThanOrEqual(committed);
      }
      for (const one of open) one.row.done('unknown');
      count.settled(committed, count.reading());
      expect([count.known(), count.isInDoubt()]).toEqual([committed, false]);
    }),
    { numRuns: 2_000 },
  );
});
