import type { GrantParts } from '../grants/index.ts';
import type { ConnectionStates, RenewalEngine, WireLog } from '../renewal/index.ts';
import type { Documents } from '../workers/index.ts';

/** Connections depend on these, and on what their grants depend on. */
export interface ConnectionParts extends GrantParts {
  connectionStates: ConnectionStates;
  documents: Documents;
  engine: RenewalEngine;
  wireLog: WireLog;
  version: string;
}
