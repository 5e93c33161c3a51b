import type { Attempt } from '../../api/connections.ts';
import type { WireRecord } from '../../core/oauth/wire-record.ts';
import type { Lanes } from '../../core/renewal/lanes.ts';
import type { Changes } from '../changes.ts';
import type { ConnectionStates } from '../connection-states.ts';
import type { ApiTokens } from '../handout/api-token.ts';
import type { Handout } from '../handout/handout.ts';
import type { History } from '../history.ts';
import type { Ports } from '../ports.ts';
import type { Quotas } from '../relay/quotas.ts';
import type { AnswerKeeper } from '../renewal/answer-keeper.ts';
import type { ClientHealth } from '../renewal/client-health.ts';
import type { ClientSecrets } from '../renewal/client-secrets.ts';
import type { Definitions } from '../renewal/definitions.ts';
import type { RenewalEngine } from '../renewal/engine.ts';
import type { GrantContexts } from '../renewal/grant-context.ts';
import type { InstallationHold } from '../renewal/installation-hold.ts';
import type { Sightings } from '../renewal/sightings.ts';
import type { Spares } from '../renewal/spares.ts';
import type { Spill } from '../renewal/spill.ts';
import type { TokenCache } from '../renewal/token-cache.ts';
import type { WireLog } from '../renewal/wire-log.ts';
import type { Sealer } from '../sealer.ts';
import type { Settings } from '../settings.ts';
import type { Store } from '../store/store.ts';
import type { Documents } from '../workers/documents.ts';
import type { Hashing } from '../workers/hashing.ts';

/** The joined parts that the nouns' modules draw on; each takes what it needs. */
export interface Services {
  settings: Settings;
  store: Store;
  connectionStates: ConnectionStates;
  sealer: Sealer;
  history: History;
  changes: Changes;
  contexts: GrantContexts;
  cache: TokenCache;
  clientHealth: ClientHealth;
  clientSecrets: ClientSecrets;
  definitions: Definitions;
  engine: RenewalEngine;
  lanes: Lanes;
  hold: InstallationHold;
  wireLog: WireLog;
  sightings: Sightings;
  keeper: AnswerKeeper;
  spares: Spares;
  spill: Spill;
  /** T10 for another data folder, whose owner is dead. */
  recover(folder: string, instanceId: string): Promise<{ saved: number; freed: number }>;
  handout: Handout;
  apiTokens: ApiTokens;
  quotas: Quotas;
  documents: Documents;
  hashing: Hashing;
  ports: Ports;
  version: string;
}

/** A kept attempt as it is shown. */
export const attemptView = ({ at, kind, record }: { at: number; kind: string; record: WireRecord }): Attempt => ({ at: iso(at), class: kind, ...record });

export const iso = (at: number): string => new Date(at).toISOString();
export const isoOrNull = (at: number | null): string | null => (at === null ? null : iso(at));
