import { setTimeout as sleep } from 'node:timers/promises';
import { expect, test } from 'vitest';
import { scoped } from './scoped.ts';

test('each piece of work sees its own value through waits, also beside others and after the storage was switched off', async () => {
  const names = scoped<{ name: string }>(0);
  const seen = async (name: string): Promise<(string | undefined)[]> =>
    names.run({ name }, async () => {
      const all = [names.current()?.name];
      await sleep(1);
      await Promise.all([Promise.resolve(), sleep(1)]);
      all.push(names.current()?.name);
      return all;
    });
  for (let round = 0; round < 3; round += 1) {
    expect(await Promise.all(['a', 'b', 'c'].map(seen))).toEqual([
      ['a', 'a'],
      ['b', 'b'],
      ['c', 'c'],
    ]);
    expect(names.current()).toBeUndefined();
    await sleep(5); // switched off meanwhile
  }
});

test('work that fails ends its scope; what it left running is followed for a while, then no more', async () => {
  const names = scoped<{ name: string }>(20);
  const left: Promise<string | undefined>[] = [];
  const later = async (ms: number) => {
    await sleep(ms);
    return names.current()?.name;
  };
  const failing = names.run({ name: 'a' }, async () => {
    left.push(later(1), later(200));
    throw new Error('broken');
  });
  await expect(failing).rejects.toThrow('broken');
  expect(await Promise.all(left)).toEqual(['a', undefined]);
});
