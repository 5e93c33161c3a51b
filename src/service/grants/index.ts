/** The face of this room: grants: made, called with, retired. */
export { askedOf, sentAwayOf } from './asked-of.ts';
export { attemptView } from './attempt-view.ts';
export { type Callable, callableWith, keepProof } from './callable.ts';
export { type AboutToken, type ApiAddress, apiAddress, type CalledGrant, callGrant, type Fetched, fetchPage, headersOf, isGood } from './calls.ts';
export { connectionDefinition, type DefinedConnection } from './definition.ts';
export { endGrant, insertGrant, newGrant, resumeFirst } from './grants.ts';
export { readIdentity } from './identity.ts';
export { lifetimeOf } from './lifetime.ts';
export type { GrantParts } from './parts.ts';
export { putBeside } from './put-beside.ts';
export { endThere, keepRevoking, note, openAndTell, type Retired, retiredInWords, retireGrant, type Told } from './retire.ts';
