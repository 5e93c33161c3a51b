import type { DeliveryTarget } from '../../api/jobs.ts';
import { mayBeOneFile } from '../../core/jobs/file-names.ts';
import type { JobRow } from '../store/jobs.ts';
import type { JobParts } from './parts.ts';

/**
 * Whether another job delivers to one of these files: a file belongs to one job, or one team could replace what another team's readers get.
 * @param which only jobs that were added `earlier`, or any other one
 */
export async function fileTaken(
  s: Pick<JobParts, 'store'>,
  job: Pick<JobRow, 'id' | 'name'>,
  targets: readonly DeliveryTarget[],
  which: 'earlier' | 'other',
): Promise<boolean> {
  const patterns = targets.flatMap((one) => (one.kind === 'file' ? [one.name] : []));
  if (patterns.length === 0) return false;
  const others = (await s.store.jobs.fileTargets()).filter((one) => (which === 'earlier' ? one.id < job.id : one.id !== job.id));
  return others.some((other) =>
    other.patterns.some((theirs) => patterns.some((pattern) => mayBeOneFile({ pattern, job: job.name }, { pattern: theirs, job: other.name }))),
  );
}
