import { LRUCache } from 'lru-cache';
import type { Ports } from '../ports.ts';
import { type Bind, type Database, idBytes, instantText } from '../store/database.ts';
import type { PermittedConnection } from './permitted.ts';

/** `refused`: by us; `limited`: for want of quota; `relayed`: sent on, whatever the API answered. */
export const USAGE_OUTCOMES = ['token', 'relayed', 'refused', 'limited'] as const;
export type UsageOutcome = (typeof USAGE_OUTCOMES)[number];

/** Counts handouts and relayed calls per caller, connection, minute and outcome, and writes them every 5 s: a crash may lose 5 s of counts. */
export interface Usage {
  /** `keyId` null: a tool that came through the door. */
  count(callerId: string, connection: PermittedConnection, keyId: string | null, outcome: UsageOutcome): void;
  stop(): Promise<void>;
}

const FLUSH_MS = 5_000;
const ROWS_EACH = 500;
const MINUTE_MS = 60_000;
/** How seldom a connection's last use is written: it is asked for in days. */
const USED_EVERY_MS = 1_800_000;

interface Count extends Record<UsageOutcome, number> {
  callerId: string;
}
interface Row {
  callerId: string;
  connectionId: string;
  minute: number;
  outcome: UsageOutcome;
  count: number;
}

export function usage(deps: { database: Database; ports: Pick<Ports, 'clock' | 'log'> }): Usage {
  const { database, ports } = deps;
  /** Of the running minute, by identity: a text key for each handout would cost more than its check. */
  let counts = new Map<PermittedConnection, Count>();
  let minute = 0;
  let waiting: Row[] = [];
  let usedKeys = new Set<string>();
  const usedTold = new LRUCache<string, true>({ max: 200_000, ttl: USED_EVERY_MS });

  const close = (): void => {
    for (const [connection, count] of counts)
      for (const outcome of USAGE_OUTCOMES)
        if (count[outcome] > 0) waiting.push({ callerId: count.callerId, connectionId: connection.id, minute, outcome, count: count[outcome] });
    counts = new Map();
  };
  const write = async (rows: Row[]): Promise<void> => {
    const bind: Bind[] = [];
    const values = rows.map((row) =>
      [idBytes(row.callerId), idBytes(row.connectionId), instantText(row.minute), row.outcome, row.count].map((value) => `$${bind.push(value)}`).join(', '),
    );
    await database.write(
      `INSERT INTO usage_minutes (caller_id, connection_id, minute, outcome, count) VALUES (${values.join('), (')}) ON DUPLICATE KEY UPDATE count = count + VALUES(count)`,
      bind,
    );
    const used = [...new Set(rows.filter((row) => row.outcome === 'token' || row.outcome === 'relayed').map((row) => row.connectionId))].filter(
      (id) => !usedTold.has(id),
    );
    if (used.length === 0) return;
    const ids: Bind[] = [];
    await database.write(
      `UPDATE connections SET last_used_at = UTC_TIMESTAMP(3) WHERE id IN (${used.map((id) => `$${ids.push(idBytes(id))}`).join(', ')}) AND (last_used_at IS NULL OR last_used_at < UTC_TIMESTAMP(3) - INTERVAL ${USED_EVERY_MS * 1000} MICROSECOND)`,
      ids,
    );
    for (const id of used) usedTold.set(id, true);
  };
  const flush = async (): Promise<void> => {
    close();
    const keys = usedKeys;
    usedKeys = new Set();
    try {
      while (waiting.length > 0) {
        const part = waiting.slice(0, ROWS_EACH);
        await write(part);
        waiting = waiting.slice(part.length);
      }
      for (const key of keys) await database.write('UPDATE caller_keys SET last_used_at = UTC_TIMESTAMP(3) WHERE id = $1', [idBytes(key)]);
    } catch (cause) {
      for (const key of keys) usedKeys.add(key);
      ports.log.debug({ cause: String(cause) }, 'usage counts wait for the database');
    }
  };
  const timer = setInterval(() => void flush(), FLUSH_MS).unref();
  return {
    count(callerId, connection, keyId, outcome) {
      const now = ports.clock.now();
      if (now >= minute + MINUTE_MS || now < minute) {
        close();
        minute = Math.floor(now / MINUTE_MS) * MINUTE_MS;
      }
      let count = counts.get(connection);
      if (!count) {
        count = { callerId, token: 0, relayed: 0, refused: 0, limited: 0 };
        counts.set(connection, count);
      }
      count[outcome] += 1;
      if (keyId !== null) usedKeys.add(keyId);
    },
    async stop() {
      clearInterval(timer);
      await flush();
    },
  };
}
