import type { WireRecord } from '../../core/oauth/wire-record.ts';
import type { Ports } from '../ports.ts';
import { type Bind, type Database, idBytes, instantText } from '../store/database.ts';

/** The last attempts of each grant, masked. Failures are always kept; of a flood of successes, so many a second. */
export interface WireLog {
  /** `record` is asked for only where it will be kept. */
  add(grantId: string, epoch: number, kind: string, record: () => WireRecord): void;
  list(grantId: string): Promise<{ at: number; kind: string; record: WireRecord }[]>;
  stop(): Promise<void>;
}

const KEPT = 20;
const SUCCESSES_A_SECOND = 20;
const FLUSH_MS = 500;
const BATCH = 100;
const WAITING_MOST = 2_000;

export function wireLog(deps: { database: Database; ports: Pick<Ports, 'clock' | 'log'> }): WireLog {
  const { database, ports } = deps;
  /** By slot: a later attempt of the same slot replaces one that still waits. */
  let waiting = new Map<string, Bind[]>();
  let [secondAt, inSecond] = [0, 0];
  let flushing: Promise<void> | null = null;

  const put = (grantId: string, epoch: number, kind: string, record: () => WireRecord) => {
    if (waiting.size >= WAITING_MOST) return;
    const slot = epoch % KEPT;
    waiting.set(`${grantId}|${slot}`, [idBytes(grantId), slot, instantText(ports.clock.now()), kind, JSON.stringify(record())]);
  };
  const flush = async (): Promise<void> => {
    while (waiting.size > 0) {
      const taken = [...waiting].slice(0, BATCH);
      const bind: Bind[] = [];
      const rows = taken.map(([, values]) => `(${values.map((value) => `$${bind.push(value)}`).join(', ')})`);
      await database.write(
        `INSERT INTO wire_log (grant_id, n, at, class, record) VALUES ${rows.join(', ')} ON DUPLICATE KEY UPDATE at = VALUES(at), class = VALUES(class), record = VALUES(record)`,
        bind,
      );
      for (const [key, values] of taken) if (waiting.get(key) === values) waiting.delete(key);
    }
  };
  const kick = (): Promise<void> => {
    flushing ??= flush()
      .catch((cause: unknown) => ports.log.debug({ cause: String(cause) }, 'wire log waits for the database'))
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
      const rows = await database.select<{ at: Date; class: string; record: string }>(
        'SELECT at, class, record FROM wire_log WHERE grant_id = $1 ORDER BY at DESC',
        [idBytes(grantId)],
      );
      return rows.map((row) => ({ at: row.at.getTime(), kind: row.class, record: JSON.parse(row.record) as WireRecord }));
    },
    async stop() {
      clearInterval(timer);
      await kick();
      waiting = new Map();
    },
  };
}
