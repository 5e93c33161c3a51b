/** The face of this room: history and announcements. */
export { type Changes, changes } from './changes.ts';
export { FORGOTTEN_AT_ONCE, type History, history } from './history.ts';
export { entryStream } from './stream.ts';
export { verifyActivity } from './verify.ts';
