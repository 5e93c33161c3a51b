import fc from 'fast-check';
import { expect, test } from 'vitest';
import { batched } from './batched.ts';

/** A `run` whose statements end when the test shows it. */
function held(failing: (items: number[]) => boolean = () => false) {
  const open: { items: number[]; end(): void }[] = [];
  const begun: number[][] = [];
  const run = (items: number[]): Promise<string[]> => {
    begun.push(items);
    return new Promise((resolve, reject) => {
      open.push({ items, end: () => (failing(items) ? reject(new Error('refused')) : resolve(items.map((item) => `done ${item}`))) });
    });
  };
  const end = (at = 0): void => open.splice(at, 1)[0]?.end();
  return { run, open, begun, end };
}
const settled = () => new Promise((resolve) => setImmediate(resolve));
const asked = (add: (item: number) => Promise<string>, from: number, to: number) => Array.from({ length: to - from }, (_none, at) => add(from + at));

test('what is requested together goes together; a few wait for the one under way, many do not', async () => {
  const { run, begun, open, end } = held();
  const add = batched(run, { most: 10, atOnce: 2, worth: 4, patienceMs: 60_000 });
  const all = asked(add, 0, 3);
  await settled();
  all.push(...asked(add, 3, 6));
  await settled();
  expect(begun).toEqual([[0, 1, 2]]);
  all.push(...asked(add, 6, 7));
  await settled();
  expect(begun).toEqual([
    [0, 1, 2],
    [3, 4, 5, 6],
  ]);
  all.push(...asked(add, 7, 30));
  await settled();
  expect(open.length).toBe(2);
  end(1);
  await settled();
  expect(begun[2]).toEqual([7, 8, 9, 10, 11, 12, 13, 14, 15, 16]);
  while (open.length > 0) {
    end();
    await settled();
  }
  expect(await Promise.all(all)).toEqual(Array.from({ length: 30 }, (_none, at) => `done ${at}`));
});

test('a few do not wait for ever behind a statement that hangs', async () => {
  const { run, begun } = held();
  const add = batched(run, { most: 10, atOnce: 2, worth: 4, patienceMs: 20 });
  void add(1);
  await settled();
  void add(2);
  await expect.poll(() => begun).toEqual([[1], [2]]);
});

test('whatever comes, and in whatever order it ends: each gets its own answer, never too many rows or statements, and a bad row harms no other', async () => {
  await fc.assert(
    fc.asyncProperty(
      fc.array(fc.oneof(fc.record({ add: fc.integer({ min: 1, max: 9 }) }), fc.record({ end: fc.nat(3) })), { minLength: 1, maxLength: 40 }),
      fc.nat(20),
      async (steps, bad) => {
        const { run, open, begun, end } = held((items) => items.includes(bad));
        const add = batched(run, { most: 6, atOnce: 2, worth: 3, patienceMs: 1 });
        const answers: Promise<string>[] = [];
        for (const step of steps) {
          if ('add' in step) answers.push(...asked(add, answers.length, answers.length + step.add).map((one) => one.catch(() => 'refused')));
          else if (open.length > 0) end(step.end % open.length);
          await settled();
          expect(begun.every((items) => items.length <= 6)).toBe(true);
          expect(open.filter(({ items }) => items.length > 1).length).toBeLessThanOrEqual(2);
        }
        let over = false;
        const all = Promise.all(answers).finally(() => {
          over = true;
        });
        while (!over) {
          end();
          await new Promise((resolve) => setTimeout(resolve, 0));
        }
        expect(await all).toEqual(answers.map((_one, at) => (at === bad ? 'refused' : `done ${at}`)));
      },
    ),
    { numRuns: 150 },
  );
});
