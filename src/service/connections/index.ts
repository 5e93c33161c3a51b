/** The face of this room: connections. */

export { checkAdminConsent } from './admin-consent.ts';
export { changeConnections } from './bulk.ts';
export {
  addConnection,
  changeConnection,
  listAttempts,
  listConnections,
  pauseConnection,
  removeConnection,
  renewConnection,
  resumeConnection,
} from './connections.ts';
export { findKnown } from './find.ts';
export type { ConnectionParts } from './parts.ts';
export { callableNow, probeConnection } from './probe.ts';
export { showQuota } from './quota-view.ts';
export { belowBase, relayBase, relayLine } from './relay-line.ts';
export { retryRevocation, revokeConnection } from './revoke.ts';
export { keepPaging, namedCall, removeCall, saveCall, savedCalls, showCallValues } from './saved-calls.ts';
export { decideStandby, setKey } from './standby.ts';
export { addressOf, callConnection, offeredCalls, readCalls, writeCurl } from './test-calls.ts';
export { showConnection } from './view.ts';
