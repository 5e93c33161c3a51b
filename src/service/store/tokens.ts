import type { Transaction } from 'sequelize';
import { type Database, idBytes } from './database.ts';

/** Deletes a grant's tokens, and the session that was opened with them. */
export async function deleteTokens(database: Pick<Database, 'write'>, grantId: string, transaction?: Transaction): Promise<void> {
  await database.write('DELETE FROM tokens WHERE grant_id = $1', [idBytes(grantId)], transaction);
  await database.write('DELETE FROM api_sessions WHERE grant_id = $1', [idBytes(grantId)], transaction);
}
