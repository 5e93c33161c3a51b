import type { ConnectionParts } from '../connections/index.ts';
import type { Changes, History } from '../history/index.ts';
import type { Ports } from '../ports.ts';
import type { Settings } from '../settings.ts';
import type { Store } from '../store/store.ts';

/** Callers depend on these. */
export interface CallerParts {
  changes: Changes;
  history: History;
  ports: Ports;
  settings: Settings;
  /** The repositories of its own, and of the rooms whose functions it calls. */
  store: ConnectionParts['store'] & Pick<Store, 'callerIdentities' | 'limits'>;
}
