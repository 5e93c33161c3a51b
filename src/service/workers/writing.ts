import { workerPool } from './worker-pool.ts';
import type { WritingTask } from './writing-worker.ts';

/** Makes files of records in threads of their own, while the service's own thread asks for the next page. */
export interface Writing {
  /** UTF-8 text of the records, without what stands before the first and after the last. */
  pages(task: WritingTask): Promise<Uint8Array>;
  stop(): Promise<void>;
}

const THREADS = 2;
const MAX_WAITING = 1_000;
const DEADLINE_MS = 60_000;

export function writing(): Writing {
  const pool = workerPool('writing-worker', { threads: THREADS, queue: MAX_WAITING, memoryMb: 256 });
  return {
    pages: async (task) => (await pool.run(task, { signal: AbortSignal.timeout(DEADLINE_MS) })) as Uint8Array,
    stop: () => pool.destroy(),
  };
}
