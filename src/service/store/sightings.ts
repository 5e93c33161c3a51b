import { oneOf, rowReader } from './column.ts';
import { type Database, idBytes } from './database.ts';

/** What was seen of a provider at one client, whatever its definition states. */
const SIGHTINGS = ['refresh_token_replaced', 'refresh_token_kept', 'access_token_short_lived'] as const;
export type Sighting = (typeof SIGHTINGS)[number];
export const SIGHTING = oneOf(SIGHTINGS);
const read = rowReader('sightings', { what: SIGHTING }, 'what');

export interface SightingStore {
  saw(clientId: string, what: Sighting): Promise<void>;
  of(clientId: string): Promise<Set<Sighting>>;
}

export function sightingStore(database: Database): SightingStore {
  return {
    saw: async (clientId, what) =>
      void (await database.write(
        `INSERT INTO sightings (client_id, what, first_at, last_at) VALUES ($1, $2, UTC_TIMESTAMP(3), UTC_TIMESTAMP(3))
         ON DUPLICATE KEY UPDATE last_at = UTC_TIMESTAMP(3)`,
        [idBytes(clientId), what],
      )),
    async of(clientId) {
      const rows = await database.select('SELECT what FROM sightings WHERE client_id = $1', [idBytes(clientId)]);
      return new Set(rows.map((row) => read(row).what));
    },
  };
}
