import type { History } from '../history/index.ts';
import type { Ports } from '../ports.ts';
import type { Sealer } from '../sealer.ts';
import type { Store } from '../store/store.ts';
import type { Hashing } from '../workers/index.ts';

/** Operators depend on these. */
export interface OperatorParts {
  hashing: Hashing;
  history: History;
  ports: Ports;
  sealer: Sealer;
  store: Pick<Store, 'operators' | 'sessions' | 'secondFactors'>;
  publicUrl: string;
}
