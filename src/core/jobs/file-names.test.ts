import fc from 'fast-check';
import { expect, test } from 'vitest';
import { fileNameOf, mayBeOneFile } from './file-names.ts';

test.each<[string, string, boolean]>([
  ['{job}.csv', '{job}.csv', false],
  ['daily.csv', 'daily.csv', true],
  ['daily.csv', 'Daily.csv', true],
  ['alpha.csv', '{job}.csv', false],
  ['beta.csv', '{job}.csv', true],
  ['a-{date}.csv', 'a-2026-12-01.csv', true],
  ['a-{date}.csv', 'a-{run}.csv', false],
  ['a-{run}{run}.csv', 'a-{time}.csv', true],
  ['a/{run}.csv', 'a/7.csv', true],
  ['a/{run}.csv', 'a/x.csv', false],
  ['{run}1.csv', '1{run}.csv', true],
])('%s of alpha and %s of beta: one file? %s', (one, other, expected) => {
  const [a, b] = [
    { pattern: one, job: 'alpha' },
    { pattern: other, job: 'beta' },
  ];
  expect([mayBeOneFile(a, b), mayBeOneFile(b, a)]).toEqual([expected, expected]);
});

test('two patterns that ever give one name are known to', () => {
  const pattern = fc
    .array(fc.constantFrom('{job}', '{date}', '{time}', '{run}', 'a', '1', '20', '-', '.csv'), { minLength: 1, maxLength: 5 })
    .map((parts) => parts.join(''));
  const at = fc.record({ job: fc.constantFrom('a', '1', 'a1'), run: fc.integer({ min: 1, max: 200 }), at: fc.constantFrom(0, 1_764_600_000_000) });
  fc.assert(
    fc.property(pattern, pattern, at, at, (one, other, x, y) => {
      fc.pre(fileNameOf(one, x) === fileNameOf(other, y));
      expect(mayBeOneFile({ pattern: one, job: x.job }, { pattern: other, job: y.job })).toBe(true);
    }),
    { numRuns: 300, maxSkipsPerRun: 2000 },
  );
});
