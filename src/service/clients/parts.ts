import type { Changes } from '../history/index.ts';
import type { ProviderParts } from '../providers/index.ts';
import type { ClientSecrets, ConnectionStates, GrantContexts, RenewalEngine } from '../renewal/index.ts';
import type { Sealer } from '../sealer.ts';
import type { Settings } from '../settings.ts';

/** Clients depend on these, and on what their provider depends on. */
export interface ClientParts extends ProviderParts {
  changes: Changes;
  clientSecrets: ClientSecrets;
  connectionStates: ConnectionStates;
  contexts: GrantContexts;
  engine: RenewalEngine;
  sealer: Sealer;
  settings: Settings;
}
