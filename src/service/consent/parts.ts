import type { GrantParts } from '../grants/index.ts';
import type { AnswerKeeper, ClientHealth, ClientSecrets, RenewalEngine, WireLog } from '../renewal/index.ts';

/** Consents depend on these, and on what the grants that they make depend on. */
export interface ConsentParts extends GrantParts {
  clientHealth: ClientHealth;
  clientSecrets: ClientSecrets;
  engine: RenewalEngine;
  keeper: AnswerKeeper;
  wireLog: WireLog;
}
