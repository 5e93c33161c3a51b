import type { Migration } from './statement.ts';
import { TRUST } from './trust.ts';
import { UP_TO_0_6 } from './up-to-0.6.ts';
import { WORDS_AND_WORK } from './words-and-work.ts';

export { AT, ID, table } from './statement.ts';

/** All of them, in their order. A new one goes to the end of the last part. */
export const MIGRATIONS: readonly Migration[] = [...UP_TO_0_6, ...WORDS_AND_WORK, ...TRUST];
