/** How a run's own time is counted. All in epoch ms. */
export interface OwnTime {
  beganAt: number;
  /** Time that does not count. */
  waitedMs: number;
  /** Since when it waits for a person, a quota or a provider that does not answer; null: it does not. */
  waitingSince: number | null;
}

/** A wait has ended: its time does not count. */
export const resumeClock = <T extends OwnTime>(time: T, now: number): T =>
  time.waitingSince === null ? time : { ...time, waitedMs: time.waitedMs + Math.max(0, now - time.waitingSince), waitingSince: null };

export const ownMinutes = (time: OwnTime, now: number): number => (now - time.beganAt - time.waitedMs) / 60_000;

/** What failed is resumed by a person, whenever that is: it gets its whole time and all its tries again. */
export const resetRetries = <T extends OwnTime & { tries: number }>(time: T, now: number): T => ({
  ...time,
  tries: 0,
  waitedMs: Math.max(0, now - time.beganAt),
  waitingSince: now,
});
