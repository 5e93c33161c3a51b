import type { ConnectionParts } from '../connections/index.ts';
import type { History } from '../history/index.ts';
import type { Ports } from '../ports.ts';
import type { Store } from '../store/store.ts';

/** Privilege is read from what other rooms keep. */
export interface PrivilegeParts {
  history: History;
  ports: Ports;
  store: ConnectionParts['store'] & Pick<Store, 'callers' | 'jobs' | 'permissions' | 'providers' | 'usage'>;
}
