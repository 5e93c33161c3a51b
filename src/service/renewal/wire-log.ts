import type { WireRecord } from '../../core/oauth/wire-record.ts';
import type { Ports } from '../ports.ts';
import type { WireLogStore, WireRow } from '../store/wire-log.ts';

/** The last attempts of each grant, masked. Failures are always kept; of a flood of successes, so many a second. */
export interface WireLog {
  /** `record` is requested only where it will be kept. */
  add(grantId: string, epoch: number, kind: string, record: () => WireRecord): void;
  list(grantId: string): Promise<{ at: number; kind: string; record: WireRecord }[]>;
  stop(): Promise<void>;
}

const KEPT = 20;
const SUCCESSES_A_SECOND = 20;
const FLUSH_MS = 500;
const BATCH = 100;
const MAX_WAITING = 2_000;

export function wireLog(deps: { store: WireLogStore; ports: Pick<Ports, 'clock' | 'log'> }): WireLog {
  const { store, ports } = deps;
  /** By slot: a later attempt of the same slot replaces one that still waits. */
  let waiting = new Map<string, WireRow>();
  let [secondAt, inSecond] = [0, 0];
  let flushing: Promise<void> | null = null;

  const put = (grantId: string, epoch: number, kind: string, record: () => WireRecord) => {
    if (waiting.size >= MAX_WAITING) return;
    const slot = epoch % KEPT;
    waiting.set(`${grantId}|${slot}`, { grantId, slot, at: ports.clock.now(), kind, record: record() });
  };
  const flush = async (): Promise<void> => {
    while (waiting.size > 0) {
      const taken = [...waiting].slice(0, BATCH);
      await store.put(taken.map(([, row]) => row));
      for (const [key, row] of taken) if (waiting.get(key) === row) waiting.delete(key);
    }
  };
  const kick = (): Promise<void> => {
    flushing ??= flush()
      .catch((cause: unknown) => ports.log.debug({ event: 'wire_log.waiting', cause: String(cause) }, 'wire log waits for the database'))
      .finally(() => {
        flushing = null;
      });
    return flushing;
  };
  const timer = setInterval(() => void kick(), FLUSH_MS).unref();
  return {
    add(grantId, epoch, kind, record) {
      if (kind !== 'tokens') return put(grantId, epoch, kind, record);
      const now = performance.now();
      if (now - secondAt >= 1_000) [secondAt, inSecond] = [now, 0];
      inSecond += 1;
      if (inSecond <= SUCCESSES_A_SECOND) put(grantId, epoch, kind, record);
    },
    async list(grantId) {
      await kick();
      return store.of(grantId);
    },
    async stop() {
      clearInterval(timer);
      await kick();
      waiting = new Map();
    },
  };
}
