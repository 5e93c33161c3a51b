/** The face of this room: the status. */
export type { StatusParts } from './parts.ts';
export { installationState, showStatus } from './status.ts';
