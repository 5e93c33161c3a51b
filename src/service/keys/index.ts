/** The face of this room: the keys under which secrets are sealed. */

export { rotateKeys, showKeys } from './keys.ts';
export type { KeyParts } from './parts.ts';
export { keepResealing } from './resealing.ts';
