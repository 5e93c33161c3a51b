import type { Changes, History } from '../history/index.ts';
import type { Ports } from '../ports.ts';
import type { Sealer } from '../sealer.ts';
import type { Store } from '../store/store.ts';

/** Keys depend on these. */
export interface KeyParts {
  changes: Changes;
  history: History;
  ports: Ports;
  sealer: Sealer;
  store: Pick<Store, 'installation' | 'dataKeys' | 'sealedValues'>;
}
