import type { Ports } from '../ports.ts';
import type { Store } from '../store/store.ts';

/** Counts of use depend on these. */
export interface UsageParts {
  ports: Ports;
  store: Pick<Store, 'callers' | 'connections' | 'limits' | 'permissions' | 'relayed' | 'usage'>;
}
