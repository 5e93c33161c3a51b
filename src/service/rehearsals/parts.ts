import type { JobParts } from '../jobs/index.ts';
import type { Store } from '../store/store.ts';

/** Rehearsals depend on what is rehearsed: definitions, clients, connections, callers, jobs and channels. */
export interface RehearsalParts extends JobParts {
  store: JobParts['store'] & Pick<Store, 'channels' | 'rehearsals'>;
  /** Aborted when the service stops: what is played ends with it. */
  stopping: AbortSignal;
}
