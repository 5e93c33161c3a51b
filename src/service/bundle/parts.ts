import type { CallerParts } from '../callers/index.ts';
import type { ClientParts } from '../clients/index.ts';
import type { ConnectionParts } from '../connections/index.ts';
import type { JobParts } from '../jobs/index.ts';
import type { ProviderParts } from '../providers/index.ts';
import type { Store } from '../store/store.ts';

/** Bundles are made of what other rooms keep, and are imported by their commands. */
export interface BundleParts extends ProviderParts, ClientParts, ConnectionParts, CallerParts, JobParts {
  store: ProviderParts['store'] &
    ClientParts['store'] &
    ConnectionParts['store'] &
    CallerParts['store'] &
    JobParts['store'] &
    Pick<Store, 'atomically' | 'bundles' | 'secrets'>;
}
