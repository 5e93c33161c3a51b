import type { Ports } from '../ports.ts';
import { type Bind, type Database, idBytes, instantText } from '../store/database.ts';

export type UsageOutcome = 'token' | 'refused';

/** Counts handouts per caller, connection, minute and outcome, and writes them every 5 s: a crash may lose 5 s of counts. */
export interface Usage {
  count(callerId: string, connectionId: string, keyId: string, outcome: UsageOutcome): void;
  stop(): Promise<void>;
}

const FLUSH_MS = 5_000;
const ROWS_EACH = 500;

export function usage(deps: { database: Database; ports: Pick<Ports, 'clock' | 'log'> }): Usage {
  const { database, ports } = deps;
  let counts = new Map<string, number>();
  let usedKeys = new Set<string>();
  const flush = async (): Promise<void> => {
    const [taken, keys] = [counts, usedKeys];
    [counts, usedKeys] = [new Map(), new Set()];
    const entries = [...taken];
    try {
      while (entries.length > 0) {
        const bind: Bind[] = [];
        const part = entries.slice(0, ROWS_EACH);
        const rows = part.map(([key, count]) => {
          const [caller = '', connection = '', minute = '0', outcome = ''] = key.split('|');
          return `(${[idBytes(caller), idBytes(connection), instantText(Number(minute)), outcome, count].map((value) => `$${bind.push(value)}`).join(', ')})`;
        });
        await database.write(
          `INSERT INTO usage_minutes (caller_id, connection_id, minute, outcome, count) VALUES ${rows.join(', ')} ON DUPLICATE KEY UPDATE count = count + VALUES(count)`,
          bind,
        );
        entries.splice(0, part.length);
      }
      for (const key of keys) await database.write('UPDATE caller_keys SET last_used_at = UTC_TIMESTAMP(3) WHERE id = $1', [idBytes(key)]);
    } catch (cause) {
      for (const [key, count] of entries) counts.set(key, (counts.get(key) ?? 0) + count);
      for (const key of keys) usedKeys.add(key);
      ports.log.debug({ cause: String(cause) }, 'usage counts wait for the database');
    }
  };
  const timer = setInterval(() => void flush(), FLUSH_MS).unref();
  return {
    count(callerId, connectionId, keyId, outcome) {
      const minute = Math.floor(ports.clock.now() / 60_000) * 60_000;
      const key = `${callerId}|${connectionId}|${minute}|${outcome}`;
      counts.set(key, (counts.get(key) ?? 0) + 1);
      usedKeys.add(keyId);
    },
    async stop() {
      clearInterval(timer);
      await flush();
    },
  };
}
