import type { ClientParts } from '../clients/index.ts';
import type { Changes, History } from '../history/index.ts';
import type { Ports } from '../ports.ts';
import type { Quotas } from '../quotas/index.ts';
import type { GrantContexts, Sightings, Spares, TokenCache } from '../renewal/index.ts';
import type { Sealer } from '../sealer.ts';
import type { Settings } from '../settings.ts';
import type { Store } from '../store/store.ts';
import type { ApiTokens } from '../tokens/index.ts';

/** Grants depend on these. */
export interface GrantParts {
  apiTokens: ApiTokens;
  cache: TokenCache;
  changes: Changes;
  contexts: GrantContexts;
  history: History;
  ports: Ports;
  quotas: Quotas;
  sealer: Sealer;
  settings: Settings;
  sightings: Sightings;
  spares: Spares;
  /** The repositories of its own, and of the rooms whose functions it calls. */
  store: ClientParts['store'] & Pick<Store, 'consents' | 'grants' | 'revocations'>;
}
