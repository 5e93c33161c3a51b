/** The face of this room: operators, their sessions, roles and limits. */
export { type From, type NewSession, type Operators, operators } from './operators.ts';
export { checkLimits, checkRole, refusedTo } from './within.ts';
