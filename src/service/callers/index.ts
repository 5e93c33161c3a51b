/** The face of this room: callers. */
export {
  addCaller,
  addKey,
  changeCaller,
  endToolSignIn,
  findCaller,
  listCallers,
  permitCaller,
  removeCaller,
  retireKey,
  showCaller,
  withdrawPermission,
} from './callers.ts';
export { addIdentity, removeIdentity, rotateKey } from './identities.ts';
export { listOwnCalls, listOwnConnections } from './own.ts';
export type { CallerParts } from './parts.ts';
export { listSetupInstructions } from './setup-instructions.ts';
