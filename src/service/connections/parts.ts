import type { GrantParts } from '../grants/index.ts';
import type { ConnectionStates, InstallationHold, RenewalEngine, WireLog } from '../renewal/index.ts';
import type { Store } from '../store/store.ts';
import type { ToolSignInParts } from '../tool-sign-ins/index.ts';
import type { UsageParts } from '../usage/index.ts';
import type { Documents } from '../workers/index.ts';

/** Connections depend on these, and on what their grants depend on. */
export interface ConnectionParts extends GrantParts {
  /** The repositories of its own, and of the rooms whose functions it calls. */
  store: GrantParts['store'] & ToolSignInParts['store'] & UsageParts['store'] & Pick<Store, 'jobs' | 'savedCalls'>;
  connectionStates: ConnectionStates;
  documents: Documents;
  engine: RenewalEngine;
  hold: InstallationHold;
  wireLog: WireLog;
  version: string;
}
