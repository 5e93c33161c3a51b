/** The face of this room: replicas. */
export { adoptReplica, listReplicas } from './adopt.ts';
export type { AdoptParts } from './parts.ts';
export { putBackAll, putBackOf, putBackThese } from './put-back.ts';
export { beginLife, type RecoveryParts, recoverFormerLives } from './replica.ts';
