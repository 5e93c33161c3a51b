import { afterEach, expect, test, vi } from 'vitest';
import { databaseClock } from './database-clock.ts';

afterEach(() => vi.useRealTimers());

const AT = Date.UTC(2026, 10, 28);

test.each([2 * 3_600_000, -2 * 3_600_000])(
  'this machine\u2019s clock set by %i ms changes nothing; the database\u2019s is followed, and said to have been set',
  async (byMs) => {
    vi.useFakeTimers({ toFake: ['Date'], now: AT });
    let [theirs, mine] = [AT, 1_000];
    const jumps: number[] = [];
    const clock = await databaseClock({ now: async () => theirs }, { onError: () => {}, onJump: (by) => jumps.push(by) }, () => mine);
    mine += 30_000;
    theirs += 30_000;
    vi.setSystemTime(AT + 30_000 + byMs);
    expect(clock.now()).toBe(AT + 30_000);
    expect([await clock.measure(), jumps]).toEqual([0, []]);
    theirs += byMs;
    expect(clock.now()).toBe(AT + 30_000); // until it is read again
    expect([await clock.measure(), jumps]).toEqual([byMs, [byMs]]);
    expect(clock.now()).toBe(AT + 30_000 + byMs);
    clock.stop();
  },
);
