import type { History } from '../history/index.ts';
import type { Ports } from '../ports.ts';
import type { Store } from '../store/store.ts';

/** What is derived from records depends on these. */
export interface RecordParts {
  history: History;
  ports: Ports;
  store: Pick<Store, 'providers'>;
}
