/** The face of this room: counts of use. */
export type { UsageParts } from './parts.ts';
export { type Usage, usage } from './usage.ts';
export { listUsage, usersOf, usesOf } from './uses.ts';
