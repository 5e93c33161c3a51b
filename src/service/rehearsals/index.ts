/** The face of this room: rehearsals, played by a program of its own on simulated providers. */
export type { RehearsalParts } from './parts.ts';
export { cancelRehearsal, listRehearsals, showRehearsal, startRehearsal } from './rehearsals.ts';
export { sweepScratch } from './scratch.ts';
