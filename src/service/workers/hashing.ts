import { Fault } from '../../core/fault.ts';
import type { HashTask } from './hashing-worker.ts';
import { workerPool } from './worker-pool.ts';

/** Password hashes, few at once. @throws {Fault} SIGN_IN_THROTTLED where too many wait: nobody makes this service hash without bound */
export interface Hashing {
  hash(password: string): Promise<string>;
  /** `known`: requested by a device that signed in before; strangers never take all the places. */
  verify(hash: string, password: string, known?: boolean): Promise<boolean>;
  stop(): Promise<void>;
}

const MAX_WAITING = 12;
/** Kept free for devices that signed in before. */
const KEPT_FREE = 8;
const RETRY_MS = 2_000;

export function hashing(): Hashing {
  const pool = workerPool('hashing-worker', { threads: 1, queue: 64, memoryMb: 64 });
  let inFlight = 0;
  const run = async <T>(task: HashTask, most = MAX_WAITING): Promise<T> => {
    if (inFlight >= most) throw new Fault('SIGN_IN_THROTTLED', { detail: 'Many sign in at this moment.', retryAfterMs: RETRY_MS });
    inFlight += 1;
    try {
      return (await pool.run(task)) as T;
    } finally {
      inFlight -= 1;
    }
  };
  return {
    hash: (password) => run<string>({ hash: password }),
    verify: (hash, password, known = false) => run<boolean>({ verify: password, against: hash }, known ? MAX_WAITING + KEPT_FREE : MAX_WAITING),
    stop: () => pool.destroy(),
  };
}
