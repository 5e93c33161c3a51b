import { createHash } from 'node:crypto';
import type { JobRow } from '../store/jobs.ts';

/** How much later than its schedule a job begins, ms: spread over jobs, always the same for one. */
export const jitterOf = (job: Pick<JobRow, 'name' | 'settings'>): number =>
  job.settings.jitter_seconds === 0 ? 0 : createHash('sha256').update(job.name).digest().readUInt32BE(0) % (job.settings.jitter_seconds * 1000);
