import type { Lanes } from '../../core/renewal/lanes.ts';
import type { History } from '../history/index.ts';
import type { Ports } from '../ports.ts';
import type { Quotas } from '../quotas/index.ts';
import type { AnswerKeeper, ConnectionStates, GrantContexts, InstallationHold, Spill } from '../renewal/index.ts';
import type { AdoptParts } from '../replicas/index.ts';
import type { Settings } from '../settings.ts';
import type { Store } from '../store/store.ts';
import type { WriteRefusals } from '../store/write-refusals.ts';
import type { HourFigures } from './hour-figures.ts';

/** The status depends on these. */
export interface StatusParts {
  connectionStates: ConnectionStates;
  contexts: GrantContexts;
  history: History;
  hourFigures: HourFigures;
  hold: InstallationHold;
  keeper: AnswerKeeper;
  lanes: Lanes;
  ports: Ports;
  settings: Settings;
  quotas: Quotas;
  refusals: WriteRefusals;
  isPractice: boolean;
  spill: Spill;
  store: AdoptParts['store'] &
    Pick<
      Store,
      'limits' | 'clients' | 'connectionList' | 'providers' | 'renewals' | 'revocations' | 'usage' | 'statistics' | 'connections' | 'callers' | 'notices'
    >;
  version: string;
}
