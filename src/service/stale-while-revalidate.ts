/** What was worked out, when (ms of `performance.now()`), and what is under way. */
interface Kept<T> {
  value: T;
  at: number;
  tookMs: number;
}

/**
 * Keeps a figure that takes long to work out: while it is requested again and again, answers come at once from memory, and a new one is
 * worked out behind them. A figure is at most `keptMs` old.
 * @param isLarge whether a value is worth keeping; what is small is worked out each time
 */
export function staleWhileRevalidate<T>(work: () => Promise<T>, { keptMs, isLarge }: { keptMs: number; isLarge(value: T): boolean }): () => Promise<T> {
  let kept: Kept<T> | null = null;
  let running: Promise<T> | null = null;
  const workOut = async (): Promise<T> => {
    const at = performance.now();
    const value = await work();
    kept = isLarge(value) ? { value, at, tookMs: performance.now() - at } : null;
    return value;
  };
  const refresh = (): Promise<T> => {
    running ??= workOut().finally(() => {
      running = null;
    });
    return running;
  };
  return async () => {
    if (!kept) return workOut(); // not shared: who just changed something sees it
    const age = performance.now() - kept.at;
    if (age >= keptMs) return refresh();
    // At most a tenth of the time is spent on it.
    if (age > kept.tookMs * 10) void refresh().catch(() => undefined); // the figure that is kept is good until `keptMs`
    return kept.value;
  };
}
