import type { ForecastParts } from '../forecast/index.ts';
import type { Changes, History } from '../history/index.ts';
import type { Mail } from '../mail/index.ts';
import type { Ports } from '../ports.ts';
import type { ConnectionStates, InstallationHold } from '../renewal/index.ts';
import type { Settings } from '../settings.ts';
import type { Store } from '../store/store.ts';
import type { WriteRefusals } from '../store/write-refusals.ts';

/** Notices depend on these: the forecast, the states of connections, and the ways to tell people. */
export interface NoticeParts extends Omit<ForecastParts, 'store'> {
  store: ForecastParts['store'] & Pick<Store, 'backups' | 'channels' | 'connectionList' | 'noticeFacts' | 'notices' | 'operators' | 'providers' | 'replicas'>;
  instanceId: string;
  refusals: WriteRefusals;
  connectionStates: ConnectionStates;
  hold: InstallationHold;
  /** How the installation differs from the folder that it must be like; null: none is watched. */
  drift(): Promise<{ count: number; says: string } | null>;
  mail: Mail;
  changes: Changes;
  history: History;
  settings: Settings;
  ports: Ports;
}
