import { afterEach, expect, test, vi } from 'vitest';
import { Live } from './live.svelte.ts';

/** An event stream whose events the test sends. */
class Stream {
  readyState = 0;
  isClosed = false;
  readonly #on = new Map<string, () => void>();
  addEventListener(name: string, listener: () => void): void {
    this.#on.set(name, listener);
  }
  send(name: 'ready' | 'changed' | 'error'): void {
    this.#on.get(name)?.();
  }
  close(): void {
    this.isClosed = true;
  }
}
function rig() {
  const streams: Stream[] = [];
  const live = new Live(() => {
    const stream = new Stream();
    streams.push(stream);
    return stream as unknown as EventSource;
  });
  return { live, streams, last: () => streams.at(-1) as Stream };
}
afterEach(() => vi.useRealTimers());

test('a change is reported to all who listen, until they stop', () => {
  const { live, last } = rig();
  const [first, second] = [vi.fn(), vi.fn()];
  const stop = live.onChange(first);
  live.onChange(second);
  live.start();
  last().send('ready');
  expect(live.state).toBe('open');
  last().send('changed');
  stop();
  last().send('changed');
  expect([first.mock.calls.length, second.mock.calls.length]).toEqual([1, 2]);
});

test('a lost stream is shown; when it is back, everything is read again, since what happened meanwhile was not heard', () => {
  const { live, last, streams } = rig();
  const heard = vi.fn();
  live.onChange(heard);
  live.start();
  last().send('ready');
  last().send('error');
  expect([live.state, heard.mock.calls.length]).toEqual(['lost', 0]);
  last().send('ready'); // the browser has reconnected
  expect([live.state, heard.mock.calls.length, streams.length]).toEqual(['open', 1, 1]);
});

test('a stream that the service closed for good is opened again after a while, and not after the end', () => {
  vi.useFakeTimers();
  const { live, last, streams } = rig();
  live.start();
  last().readyState = 2;
  last().send('error');
  vi.advanceTimersByTime(10_000);
  expect(streams).toHaveLength(2);
  last().readyState = 2;
  last().send('error');
  live.stop();
  vi.advanceTimersByTime(10_000);
  expect([streams.length, live.state]).toEqual([2, 'off']);
});
