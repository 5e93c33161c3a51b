import type { History } from '../history/index.ts';
import type { Ports } from '../ports.ts';
import type { Store } from '../store/store.ts';
import type { Documents } from '../workers/index.ts';

/** Providers depend on these. */
export interface ProviderParts {
  documents: Documents;
  history: History;
  ports: Ports;
  store: Pick<Store, 'clients' | 'connectionList' | 'providers'>;
}
