import type { Changes, History } from '../history/index.ts';
import type { Ports } from '../ports.ts';
import type { RecordParts } from '../records/index.ts';
import type { Settings } from '../settings.ts';
import type { Store } from '../store/store.ts';

/** Sign-ins of tools depend on these. */
export interface ToolSignInParts {
  changes: Changes;
  history: History;
  ports: Ports;
  settings: Settings;
  store: RecordParts['store'] & Pick<Store, 'callers' | 'connectionList' | 'connections' | 'limits' | 'toolSignIns'>;
}
