import type { Changes, History } from '../history/index.ts';
import type { Ports } from '../ports.ts';
import type { ClientSecrets, ConnectionStates, GrantContexts, RenewalEngine } from '../renewal/index.ts';
import type { Sealer } from '../sealer.ts';
import type { Settings } from '../settings.ts';
import type { Store } from '../store/store.ts';
import type { Documents } from '../workers/index.ts';

/** Clients depend on these. */
export interface ClientParts {
  changes: Changes;
  clientSecrets: ClientSecrets;
  connectionStates: ConnectionStates;
  contexts: GrantContexts;
  documents: Documents;
  engine: RenewalEngine;
  history: History;
  ports: Ports;
  sealer: Sealer;
  settings: Settings;
  store: Store;
}
