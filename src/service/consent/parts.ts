import type { GrantParts } from '../grants/index.ts';
import type { AnswerKeeper, ClientHealth, ClientSecrets, RenewalEngine, WireLog } from '../renewal/index.ts';
import type { Store } from '../store/store.ts';

/** Consents depend on these, and on what the grants that they make depend on. */
export interface ConsentParts extends Omit<GrantParts, 'store'> {
  store: GrantParts['store'] & Pick<Store, 'invitations'>;
  clientHealth: ClientHealth;
  clientSecrets: ClientSecrets;
  engine: RenewalEngine;
  keeper: AnswerKeeper;
  wireLog: WireLog;
}
