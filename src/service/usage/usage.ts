import { LRUCache } from 'lru-cache';
import { boundedCache } from '../bounded-cache.ts';
import type { Ports } from '../ports.ts';
import type { Store } from '../store/store.ts';
import { USAGE_OUTCOMES, type UsageCount, type UsageOutcome } from '../store/usage.ts';
import type { PermittedConnection } from '../tokens/index.ts';

/** Counts issued tokens and relayed calls per caller, connection, minute and outcome, and writes them every 5 s: a crash may lose 5 s of counts. */
export interface Usage {
  /** `keyId` null: a tool that signed in here. */
  count(callerId: string, connection: PermittedConnection, keyId: string | null, outcome: UsageOutcome): void;
  /** Since this process began. */
  totals(): Record<UsageOutcome, number>;
  stop(): Promise<void>;
}

const FLUSH_MS = 5_000;
/** A statement of more would keep tokens waiting for longer than 3 ms while it is put together. */
const ROWS_EACH = 100;
const MINUTE_MS = 60_000;
/** How seldom a connection's last use is written: it is requested in days. */
const USED_EVERY_MS = 1_800_000;

interface Count extends Record<UsageOutcome, number> {
  callerId: string;
}
export function usage(deps: { store: Pick<Store, 'usage' | 'connections' | 'callers'>; ports: Pick<Ports, 'clock' | 'log'> }): Usage {
  const { store, ports } = deps;
  /** Of the running minute, by identity: a text key for each issued token would cost more than its check. */
  let counts = new Map<PermittedConnection, Count>();
  let minute = 0;
  let waiting: UsageCount[] = [];
  let usedKeys = new Set<string>();
  const usedTold = new LRUCache<string, true>({ ...boundedCache(200_000), ttl: USED_EVERY_MS });

  const totals: Record<UsageOutcome, number> = { token: 0, relayed: 0, refused: 0, limited: 0 };
  const close = (): void => {
    for (const [connection, count] of counts)
      for (const outcome of USAGE_OUTCOMES)
        if (count[outcome] > 0) {
          waiting.push({ callerId: count.callerId, connectionId: connection.id, minute, outcome, count: count[outcome] });
          totals[outcome] += count[outcome];
        }
    counts = new Map();
  };
  const write = async (rows: UsageCount[]): Promise<void> => {
    await store.usage.add(rows);
    const used = [...new Set(rows.filter((row) => row.outcome === 'token' || row.outcome === 'relayed').map((row) => row.connectionId))].filter(
      (id) => !usedTold.has(id),
    );
    if (used.length === 0) return;
    await store.connections.used(used, USED_EVERY_MS);
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
      for (const key of keys) await store.callers.keyUsed(key);
    } catch (cause) {
      for (const key of keys) usedKeys.add(key);
      ports.log.debug({ event: 'usage.waiting', cause: String(cause) }, 'usage counts wait for the database');
    }
  };
  const timer = setInterval(() => void flush(), FLUSH_MS).unref();
  return {
    totals() {
      const all = { ...totals };
      for (const count of counts.values()) for (const outcome of USAGE_OUTCOMES) all[outcome] += count[outcome];
      return all;
    },
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
