import type { Changes, History } from '../history/index.ts';
import type { Ports } from '../ports.ts';
import type { Quotas } from '../quotas/index.ts';
import type { ConnectionStates, GrantContexts, RenewalEngine, Sightings, Spares, TokenCache, WireLog } from '../renewal/index.ts';
import type { Sealer } from '../sealer.ts';
import type { Settings } from '../settings.ts';
import type { Store } from '../store/store.ts';
import type { ApiTokens } from '../tokens/index.ts';
import type { Documents } from '../workers/index.ts';

/** Connections depend on these. */
export interface ConnectionParts {
  apiTokens: ApiTokens;
  cache: TokenCache;
  changes: Changes;
  connectionStates: ConnectionStates;
  contexts: GrantContexts;
  documents: Documents;
  engine: RenewalEngine;
  history: History;
  ports: Ports;
  quotas: Quotas;
  sealer: Sealer;
  settings: Settings;
  sightings: Sightings;
  spares: Spares;
  store: Store;
  version: string;
  wireLog: WireLog;
}
