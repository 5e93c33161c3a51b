const WINDOW_MS = { minute: 60_000, hour: 3_600_000, day: 86_400_000 } as const;
/** Of a window: before that, a few calls say nothing about the rest. */
const EARLY = 0.05;

/**
 * What will be left of a quota when its window resets, if calls go on at the rate so far.
 * @param resetsAt and `now` epoch ms
 * @returns below zero: so many more than it has; null: too early to say
 */
export function expectedLeft(
  { most, left, window, resetsAt }: { most: number; left: number; window: keyof typeof WINDOW_MS; resetsAt: number },
  now: number,
): number | null {
  const passed = 1 - (resetsAt - now) / WINDOW_MS[window];
  if (passed < EARLY) return null;
  const used = most - left;
  return Math.round(most - used / Math.min(1, passed));
}
