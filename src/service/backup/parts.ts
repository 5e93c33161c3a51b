import type { MasterKey } from '../../core/sealing/master-key.ts';
import type { History } from '../history/index.ts';
import type { Ports } from '../ports.ts';
import type { AnswerKeeper, InstallationHold, RenewalEngine } from '../renewal/index.ts';
import type { Settings } from '../settings.ts';
import type { Store } from '../store/store.ts';

/** Backups depend on these. */
export interface BackupParts {
  /** Signs backups; it is not in them in plain text. */
  activityKey: Uint8Array;
  engine: RenewalEngine;
  history: History;
  hold: InstallationHold;
  instanceId: string;
  keeper: AnswerKeeper;
  master: MasterKey;
  ports: Ports;
  settings: Settings;
  /** Aborted when the service stops: what is written is broken off, and says so. */
  stopping: AbortSignal;
  store: Pick<Store, 'backups' | 'installation' | 'renewals' | 'snapshot'>;
  version: string;
}
