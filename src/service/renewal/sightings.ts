import type { Ports } from '../ports.ts';
import type { Sighting, SightingStore } from '../store/sightings.ts';

/** Written at most once an hour for each client and kind: no write for each renewal. */
export interface Sightings {
  saw(clientId: string, what: Sighting): void;
  of(clientId: string): Promise<Set<Sighting>>;
}

const AGAIN_MS = 3_600_000;

export function sightings(deps: { store: SightingStore; ports: Pick<Ports, 'log'> }): Sightings {
  const { store, ports } = deps;
  const written = new Map<string, number>();
  return {
    saw(clientId, what) {
      const key = `${clientId} ${what}`;
      if (performance.now() - (written.get(key) ?? Number.NEGATIVE_INFINITY) < AGAIN_MS) return;
      written.set(key, performance.now());
      store.saw(clientId, what).catch((cause: unknown) => {
        written.delete(key); // the next renewal tells it again
        ports.log.debug({ event: 'renewals.sighting_waiting', cause: String(cause) }, 'a sighting waits for the database');
      });
    },
    of: (clientId) => store.of(clientId),
  };
}
