import { afterEach, expect, test, vi } from 'vitest';
import { ProblemError } from '../../api/client.ts';
import { Action, Query } from './query.svelte.ts';

const problem = (title: string) => new ProblemError({ type: 'about:blank', title, status: 503, remedy: 'Try again.', code: 'SERVICE_UNREACHABLE' });
/** A read whose answers the test gives, in any order. */
function reads<T>() {
  const open: { resolve(value: T): void; reject(error: unknown): void }[] = [];
  return { open, read: () => new Promise<T>((resolve, reject) => open.push({ resolve, reject })) };
}
const settled = () => new Promise<void>((resolve) => setTimeout(resolve));
afterEach(() => vi.useRealTimers());

test('what is shown stays through a failure, with the problem beside it, and the next answer takes the problem away', async () => {
  const { open, read } = reads<string>();
  const loaded = new Query(read);
  for (const [answer, value, title] of [
    ['one', 'one', undefined],
    [problem('The service does not answer.'), 'one', 'The service does not answer.'],
    ['two', 'two', undefined],
  ] as const) {
    const done = loaded.load();
    if (answer instanceof ProblemError) open.shift()?.reject(answer);
    else open.shift()?.resolve(answer);
    await done;
    expect([loaded.value, loaded.problem?.title]).toEqual([value, title]);
  }
});

test('an answer that was overtaken by a later one is dropped, and so is its failure', async () => {
  const { open, read } = reads<string>();
  const loaded = new Query(read);
  const [first, second, third] = [loaded.load(), loaded.load(), loaded.load()];
  open[2]?.resolve('newest');
  open[1]?.reject(problem('late'));
  open[0]?.resolve('oldest');
  await Promise.all([first, second, third]);
  expect([loaded.value, loaded.problem]).toEqual(['newest', null]);
});

test('a page that was left gets nothing more, and a start shows nothing of the one before', async () => {
  const { open, read } = reads<string>();
  const loaded = new Query(read);
  const stop = loaded.start();
  stop();
  open.shift()?.resolve('too late');
  await settled();
  expect(loaded.value).toBeNull();
  const again = loaded.start();
  open.shift()?.resolve('here');
  await settled();
  expect(loaded.value).toBe('here');
  loaded.start();
  expect(loaded.value).toBeNull();
  again();
});

test('it is read every so often, except while nobody looks', () => {
  vi.useFakeTimers();
  const page = { hidden: false };
  vi.stubGlobal('document', page);
  const read = vi.fn(() => new Promise<string>(() => undefined));
  const stop = new Query(read, 2_000).start();
  vi.advanceTimersByTime(4_000);
  expect(read).toHaveBeenCalledTimes(3);
  page.hidden = true;
  vi.advanceTimersByTime(10_000);
  expect(read).toHaveBeenCalledTimes(3);
  page.hidden = false;
  vi.advanceTimersByTime(2_000);
  stop();
  vi.advanceTimersByTime(10_000);
  expect(read).toHaveBeenCalledTimes(4);
  vi.unstubAllGlobals();
});

test('one thing at a time: a second press while it runs does nothing; a failure is kept until the next try', async () => {
  const doing = new Action();
  let finish: () => void = () => undefined;
  const first = doing.run(() => new Promise((resolve) => (finish = resolve)));
  expect([doing.busy, await doing.run(async () => undefined)]).toEqual([true, false]);
  finish();
  expect([await first, doing.busy]).toEqual([true, false]);
  expect(await doing.run(() => Promise.reject(problem('No.')))).toBe(false);
  expect([doing.busy, doing.problem?.title]).toEqual([false, 'No.']);
  expect(await doing.run(() => Promise.reject(new Error('a bug')))).toBe(false);
  expect(doing.problem).toMatchObject({ detail: 'a bug' });
  await doing.run(async () => undefined);
  expect(doing.problem).toBeNull();
});
