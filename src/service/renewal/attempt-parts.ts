import type { Lanes } from '../../core/renewal/lanes.ts';
import type { RenewalLimits } from '../../core/renewal/limits.ts';
import type { History } from '../history/index.ts';
import type { Ports } from '../ports.ts';
import type { Sealer } from '../sealer.ts';
import type { RenewalStore } from '../store/renewals.ts';
import type { AnswerKeeper } from './answer-keeper.ts';
import type { ClientHealth } from './client-health.ts';
import type { ConnectionStates } from './connection-states.ts';
import type { ClientSecrets } from './credentials.ts';
import type { GrantContexts } from './grant-context.ts';
import type { Ground } from './ground.ts';
import type { Holders } from './holders.ts';
import type { InstallationHold } from './installation-hold.ts';
import type { NewestAnswers } from './newest-answers.ts';
import type { Sightings } from './sightings.ts';
import type { Spares } from './spares.ts';
import type { TokenCache } from './token-cache.ts';
import type { WireLog } from './wire-log.ts';

export interface AttemptParts {
  me: string;
  store: RenewalStore;
  sealer: Sealer;
  contexts: GrantContexts;
  keeper: AnswerKeeper;
  spares: Spares;
  holders: Holders;
  cache: TokenCache;
  clients: ClientHealth;
  secrets: ClientSecrets;
  lanes: Lanes;
  hold: InstallationHold;
  newest: Pick<NewestAnswers, 'isOutdated' | 'put'>;
  ground: Pick<Ground, 'suspect'>;
  wireLog: WireLog;
  sightings: Sightings;
  history: History;
  /** Learns of renewals that went otherwise than the one before. */
  states: Pick<ConnectionStates, 'touch'>;
  limits: RenewalLimits;
  ports: Ports;
  noteEvidence(grantId: string, evidence: string | null): Promise<void>;
  /** The API's address that an answer named, where it changed. */
  noteApiBase(grant: { id: string; connection: string }, address: string): Promise<void>;
}
