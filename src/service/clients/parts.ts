import type { Changes } from '../history/index.ts';
import type { ProviderParts } from '../providers/index.ts';
import type { ClientSecrets, ConnectionStates, GrantContexts, RenewalEngine } from '../renewal/index.ts';
import type { Sealer } from '../sealer.ts';
import type { Settings } from '../settings.ts';
import type { Store } from '../store/store.ts';

/** Clients depend on these, and on what their provider depends on. */
export interface ClientParts extends ProviderParts {
  store: ProviderParts['store'] & Pick<Store, 'connections' | 'installation' | 'renewals' | 'secrets'>;
  changes: Changes;
  clientSecrets: ClientSecrets;
  connectionStates: ConnectionStates;
  contexts: GrantContexts;
  engine: RenewalEngine;
  sealer: Sealer;
  settings: Settings;
}
