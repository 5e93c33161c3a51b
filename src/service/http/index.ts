/** The face of this room: the HTTP surface. */
export { listen, openFront, refuseUsedPort } from './front.ts';
export { closeWhileEmpty, watchClusterSocket } from './listening-socket.ts';
export type { HttpParts } from './parts.ts';
export { readTlsFiles } from './tls.ts';
