/** The face of this room: several processes that serve one port. */
export type { Ready, ToServer, ToSupervisor } from './messages.ts';
export { figuresOfAll, type ServingProcess, servingProcess, supervisorsSocket } from './server.ts';
