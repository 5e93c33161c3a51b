import { Fault } from '../../core/fault.ts';
import type { TaskResult, Tasks } from './documents-worker.ts';
import { workerPool } from './worker-pool.ts';

/** Reads documents from elsewhere in a thread of their own, with a deadline. @throws {Fault} DOCUMENT_TOO_COMPLEX, and what the reading throws */
export interface Documents {
  read<T extends keyof Tasks>(task: T, input: Parameters<Tasks[T]>[0]): Promise<Awaited<ReturnType<Tasks[T]>>>;
  stop(): Promise<void>;
}

const DEADLINE_MS = 15_000;
const MAX_WAITING = 20;

export function documents(deadlineMs = DEADLINE_MS): Documents {
  const pool = workerPool('documents-worker', { threads: 1, queue: MAX_WAITING, memoryMb: 512 });
  return {
    async read(task, input) {
      const deadline = AbortSignal.timeout(deadlineMs);
      let result: TaskResult;
      try {
        result = (await pool.run({ task, input }, { signal: deadline })) as TaskResult;
      } catch (cause) {
        // Over its time or its memory the thread is ended, and another one begins with the next document.
        const { code } = cause as { code?: string };
        if (deadline.aborted || code === 'ERR_WORKER_OUT_OF_MEMORY')
          throw new Fault('DOCUMENT_TOO_COMPLEX', { detail: `The limit is ${deadlineMs / 1000} s.` });
        if (cause instanceof Error && /queue/i.test(cause.message))
          throw new Fault('DOCUMENT_TOO_COMPLEX', { detail: 'Many documents are being read at this moment.' });
        throw cause;
      }
      if ('fault' in result) {
        const { code, detail, remedy, places } = result.fault;
        throw new Fault(code, { remedy, places, ...(detail === undefined ? {} : { detail }) });
      }
      return result.done as never;
    },
    stop: () => pool.destroy(),
  };
}
