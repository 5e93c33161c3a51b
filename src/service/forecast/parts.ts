import type { GrantParts } from '../grants/index.ts';
import type { Store } from '../store/store.ts';

/** The forecast depends on these, and on what tells the definition of a client. */
export interface ForecastParts extends Omit<GrantParts, 'store'> {
  store: GrantParts['store'] & Pick<Store, 'forecast' | 'clients' | 'limits' | 'secrets' | 'providers'>;
}
