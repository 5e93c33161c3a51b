/** The face of this room: worker threads. */
export { type Documents, documents } from './documents.ts';
export { type Hashing, hashing } from './hashing.ts';
