/** The face of this room: operators and their sessions. */
export { type Operators, operators } from './operators.ts';
