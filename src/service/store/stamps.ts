import type { Database } from './database.ts';

/** What pages show changes with this text; the same text means that nothing that is stored has changed. */
export interface StampStore {
  read(): Promise<string>;
}

export function stampStore(database: Database): StampStore {
  return {
    async read() {
      const [row] = await database.select<{ stamp: string | null }>(
        `SELECT CONCAT_WS(' ',
           (SELECT HEX(MAX(id)) FROM history),
           (SELECT HEX(MAX(id)) FROM changes),
           (SELECT HEX(MAX(id)) FROM runs),
           (SELECT CONCAT(COUNT(*), '.', SUM(stamp)) FROM runs WHERE state IN ('running', 'waiting')),
           (SELECT CONCAT(COUNT(*), '.', SUM(percent), '.', SUM(state = 'running')) FROM rehearsals),
           (SELECT SUM(count) FROM usage_minutes WHERE minute > UTC_TIMESTAMP(3) - INTERVAL 2 MINUTE),
           (SELECT GROUP_CONCAT(HEX(id), phase ORDER BY id SEPARATOR ' ') FROM (
             SELECT id, phase FROM consents WHERE expires_at > UTC_TIMESTAMP(3) ORDER BY expires_at DESC LIMIT 200) open)
         ) AS stamp`,
      );
      return row?.stamp ?? '';
    },
  };
}
