/** The face of this room: who can do what, at a glance. */
export type { PrivilegeParts } from './parts.ts';
export { exportPrivilege, showPrivilege } from './privilege.ts';
