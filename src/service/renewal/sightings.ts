import type { Ports } from '../ports.ts';
import { type Database, idBytes } from '../store/database.ts';

/** What was seen of a provider at one client, whatever its definition believes. */
export const SIGHTINGS = ['refresh_token_replaced', 'refresh_token_kept'] as const;
export type Sighting = (typeof SIGHTINGS)[number];

/** Written at most once an hour for each client and kind: no write for each renewal. */
export interface Sightings {
  saw(clientId: string, what: Sighting): void;
  of(clientId: string): Promise<Set<Sighting>>;
}

const AGAIN_MS = 3_600_000;

export function sightings(deps: { database: Database; ports: Pick<Ports, 'log'> }): Sightings {
  const { database, ports } = deps;
  const written = new Map<string, number>();
  return {
    saw(clientId, what) {
      const key = `${clientId} ${what}`;
      if (performance.now() - (written.get(key) ?? Number.NEGATIVE_INFINITY) < AGAIN_MS) return;
      written.set(key, performance.now());
      database
        .write(
          'INSERT INTO sightings (client_id, what, first_at, last_at) VALUES ($1, $2, UTC_TIMESTAMP(3), UTC_TIMESTAMP(3)) ON DUPLICATE KEY UPDATE last_at = UTC_TIMESTAMP(3)',
          [idBytes(clientId), what],
        )
        .catch((cause: unknown) => {
          written.delete(key); // the next renewal tells it again
          ports.log.debug({ cause: String(cause) }, 'a sighting waits for the database');
        });
    },
    async of(clientId) {
      const rows = await database.select<{ what: string }>('SELECT what FROM sightings WHERE client_id = $1', [idBytes(clientId)]);
      return new Set(rows.map((row) => row.what as Sighting));
    },
  };
}
