/** The face of this room: worker threads. */
export { type Documents, documents } from './documents.ts';
export { type Hashing, hashing } from './hashing.ts';
export { type Writing, writing } from './writing.ts';
