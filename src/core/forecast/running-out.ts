/** What is used up by going on as before: a quota by the schedules of jobs, a disk by what is written to it. Instants are epoch ms. Pure. */
export interface ScheduledQuota {
  /** Names the quota and whom it counts for. */
  scope: string;
  connection: string;
  title: string;
  /** Calls or points of a window. */
  most: number;
  left: number;
  resetsAt: number;
  windowMs: number;
  /** Runs to come, with what each costs by the last run. `job` null: one that whoever asks may not see. */
  runs: readonly { job: string | null; connection: string; labels: string[]; at: number; cost: number }[];
  labels: string[];
}

/** When the runs of a window use up what is left of it, this window or the next; null: they do not. */
export function quotaEndsAt(quota: ScheduledQuota): { at: number; jobs: string[] } | null {
  const { most, left, resetsAt, windowMs, runs } = quota;
  const sorted = [...runs].sort((a, b) => a.at - b.at);
  for (const [from, to, rest] of [
    [0, resetsAt, left],
    [resetsAt, resetsAt + windowMs, most],
  ] as const) {
    let used = 0;
    const within = sorted.filter((run) => run.at >= from && run.at < to);
    for (const run of within) {
      used += run.cost;
      if (used > rest) return { at: run.at, jobs: [...new Set(within.flatMap((one) => one.job ?? []))] };
    }
  }
  return null;
}

/** Free space of one folder of one replica, as it was seen over days. */
export interface DiskLevels {
  instance: string;
  folder: string;
  levels: readonly { at: number; freeMb: number; totalMb: number }[];
}
const DAY_MS = 86_400_000;
/** So long must it have been watched, so that a night's backup is not taken for a trend. */
const WATCHED_MS = 3 * DAY_MS;
/** Less than this counts as full: a database needs room to work. */
const FULL_SHARE = 0.05;
const FULL_MB = 512;

/** When the disk is full if it goes on as in the last days; null: it does not shrink, or was not watched for long enough. */
export function diskFullAt({ levels }: DiskLevels): number | null {
  const last = levels.at(-1);
  if (!last) return null;
  const floorMb = Math.min(FULL_MB, last.totalMb * FULL_SHARE);
  if (last.freeMb <= floorMb) return last.at;
  const [first] = levels;
  if (!first || last.at - first.at < WATCHED_MS) return null;
  // Least squares over all of them: one file that comes and goes does not make a trend.
  const meanAt = levels.reduce((sum, one) => sum + one.at, 0) / levels.length;
  const meanFree = levels.reduce((sum, one) => sum + one.freeMb, 0) / levels.length;
  const spread = levels.reduce((sum, one) => sum + (one.at - meanAt) ** 2, 0);
  const slope = levels.reduce((sum, one) => sum + (one.at - meanAt) * (one.freeMb - meanFree), 0) / spread;
  if (!(slope < 0)) return null;
  return Math.max(last.at, Math.round(meanAt + (floorMb - meanFree) / slope));
}
