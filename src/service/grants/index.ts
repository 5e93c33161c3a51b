/** The face of this room: grants: made, called with, retired. */

export { attemptView } from './attempt-view.ts';
export { type Callable, callableWith, keepProof } from './callable.ts';
export { type AboutToken, type ApiAddress, apiAddress, type CalledGrant, callGrant, type Fetched, fetchPage, headersOf, isGood } from './calls.ts';
export { connectionDefinition, type DefinedConnection } from './definition.ts';
export { diagnosisInput, sentAwayOf } from './diagnosis-input.ts';
export { endGrant, insertGrant, newGrant, resumeFirst } from './grants.ts';
export { readIdentity } from './identity.ts';
export { lifetimeOf } from './lifetime.ts';
export { moveToStandby } from './move-to-standby.ts';
export type { GrantParts } from './parts.ts';
export { keepRevoking, note, type Retirement, type RevocationResult, retiredInWords, retireGrant, revokeAtProvider, tryRevocation } from './retire.ts';
