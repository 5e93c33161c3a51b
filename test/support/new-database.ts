import { inject } from 'vitest';
import { newDatabaseOn } from '../../testing/new-database-on.ts';

/** An empty database of its own, on the server that all test files share. */
export const newDatabase = (): Promise<string> => newDatabaseOn(inject('databaseServer'));
