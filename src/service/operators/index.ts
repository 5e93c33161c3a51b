/** The face of this room: operators, their sessions, roles and limits. */
export type { From, NewSession } from './opened-sessions.ts';
export { type Operators, operators } from './operators.ts';
export { checkLimits, checkRole, refusedTo } from './within.ts';
