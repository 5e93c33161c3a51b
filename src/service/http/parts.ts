import type { BackupParts } from '../backup/index.ts';
import type { BundleParts } from '../bundle/index.ts';
import type { CallerParts } from '../callers/index.ts';
import type { ClientParts } from '../clients/index.ts';
import type { ConnectionParts } from '../connections/index.ts';
import type { ConsentParts } from '../consent/index.ts';
import type { ForecastParts } from '../forecast/index.ts';
import type { JobParts } from '../jobs/index.ts';
import type { KeyParts } from '../keys/index.ts';
import type { LogLevelSwitch } from '../log-level.ts';
import type { NoticeParts } from '../notices/index.ts';
import type { PeopleParts } from '../people/index.ts';
import type { PrivilegeParts } from '../privilege/index.ts';
import type { ProviderParts } from '../providers/index.ts';
import type { RehearsalParts } from '../rehearsals/index.ts';
import type { Definitions } from '../renewal/index.ts';
import type { AdoptParts } from '../replicas/index.ts';
import type { SealedStore } from '../sealed-documents.ts';
import type { StatusParts } from '../status/index.ts';
import type { ToolSignInParts } from '../tool-sign-ins/index.ts';
import type { UsageParts } from '../usage/index.ts';

/** The HTTP surface passes to each room what that room depends on, and reads definitions for the fast lanes. */
export interface HttpParts
  extends ProviderParts,
    ClientParts,
    ConnectionParts,
    ConsentParts,
    JobParts,
    PeopleParts,
    ForecastParts,
    NoticeParts,
    RehearsalParts,
    CallerParts,
    ToolSignInParts,
    KeyParts,
    BackupParts,
    BundleParts,
    PrivilegeParts,
    UsageParts,
    AdoptParts,
    StatusParts {
  store: SealedStore;
  logLevel: LogLevelSwitch;
  definitions: Definitions;
  /** The original of this copy stops and transfers its newest tokens, where it answers. */
  moveHere(): Promise<void>;
  /** Authenticates the heads of the chains of the activity log. */
  activityKey: Uint8Array;
}
