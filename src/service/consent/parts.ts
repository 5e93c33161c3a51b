import type { Changes, History } from '../history/index.ts';
import type { Ports } from '../ports.ts';
import type { Quotas } from '../quotas/index.ts';
import type { AnswerKeeper, ClientHealth, ClientSecrets, GrantContexts, RenewalEngine, Sightings, Spares, TokenCache, WireLog } from '../renewal/index.ts';
import type { Sealer } from '../sealer.ts';
import type { Settings } from '../settings.ts';
import type { Store } from '../store/store.ts';
import type { ApiTokens } from '../tokens/index.ts';

/** Consents depend on these. */
export interface ConsentParts {
  apiTokens: ApiTokens;
  cache: TokenCache;
  changes: Changes;
  clientHealth: ClientHealth;
  clientSecrets: ClientSecrets;
  contexts: GrantContexts;
  engine: RenewalEngine;
  history: History;
  keeper: AnswerKeeper;
  ports: Ports;
  quotas: Quotas;
  sealer: Sealer;
  settings: Settings;
  sightings: Sightings;
  spares: Spares;
  store: Store;
  wireLog: WireLog;
}
