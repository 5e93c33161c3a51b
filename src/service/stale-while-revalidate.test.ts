import { afterEach, expect, test, vi } from 'vitest';
import { staleWhileRevalidate } from './stale-while-revalidate.ts';

afterEach(() => vi.useRealTimers());

/** Work that takes 100 ms and counts how often it was done. */
function counting(size: () => number) {
  let done = 0;
  const work = async () => {
    done += 1;
    const mine = { n: done, size: size() };
    await new Promise((resolve) => setTimeout(resolve, 100));
    return mine;
  };
  return { ask: staleWhileRevalidate(work, { keptMs: 10_000, isLarge: (value) => value.size > 10 }), done: () => done };
}

test('what is small is worked out each time; what is large is answered from memory and renewed behind the answer, never older than said', async () => {
  vi.useFakeTimers({ toFake: ['setTimeout', 'performance'] });
  let size = 1;
  const { ask, done } = counting(() => size);
  const asked = async () => {
    const answer = ask();
    await vi.advanceTimersByTimeAsync(100);
    return (await answer).n;
  };
  expect([await asked(), await asked()]).toEqual([1, 2]);
  size = 100;
  expect(await asked()).toBe(3);
  expect((await ask()).n).toBe(3); // at once
  await vi.advanceTimersByTimeAsync(2_000);
  expect([(await ask()).n, (await ask()).n, done()]).toEqual([3, 3, 4]); // one is under way
  await vi.advanceTimersByTimeAsync(100);
  expect([(await ask()).n, done()]).toEqual([4, 4]); // young enough: none is begun
  await vi.advanceTimersByTimeAsync(11_000);
  expect(await asked()).toBe(5); // too old to show: waited for
});
