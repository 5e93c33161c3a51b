import type { History } from '../history/index.ts';
import type { Ports } from '../ports.ts';
import type { Settings } from '../settings.ts';
import type { Store } from '../store/store.ts';

/** The adoption of a dead replica depends on these. */
export interface AdoptParts {
  history: History;
  ports: Ports;
  /** T10 for another data folder, whose owner is dead. */
  recover(folder: string, instanceId: string): Promise<{ saved: number; freed: number }>;
  settings: Settings;
  store: Pick<Store, 'replicas'>;
}
