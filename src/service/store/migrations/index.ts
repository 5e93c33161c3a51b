import { CALLERS } from './baseline/callers.ts';
import { CONNECTIONS } from './baseline/connections.ts';
import { INSTALLATION } from './baseline/installation.ts';
import { OPERATORS } from './baseline/operators.ts';
import { PEOPLE } from './baseline/people.ts';
import { PROVIDERS } from './baseline/providers.ts';
import { WORK } from './baseline/work.ts';
import { FOREIGN_KEYS } from './foreign-keys.ts';
import { FORMER_WORDS } from './former-words.ts';
import type { Migration } from './statement.ts';

export { AT, ID, table } from './statement.ts';

export const BASELINE = '1.0-baseline';
/** The last change that development versions made one by one: with it, a database has the schema of the baseline. */
export const LAST_BEFORE_BASELINE = '0126-installations-practiced';

/** All of them, in their order. A new one goes to the end. */
export const MIGRATIONS: readonly Migration[] = [
  [BASELINE, ...INSTALLATION, ...OPERATORS, ...PROVIDERS, ...CONNECTIONS, ...CALLERS, ...PEOPLE, ...WORK],
  ['1.0-former-words', ...FORMER_WORDS],
  ['1.0-foreign-keys', ...FOREIGN_KEYS],
];
