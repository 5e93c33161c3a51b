import { bytes, id, instant, number, orNull, text } from './column.ts';
import { type Database, idBytes, instantText, intervalText } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const COLUMNS = {
  grantId: id,
  version: number,
  sealed: orNull(bytes),
  baseUrl: orNull(text),
  issuedAt: orNull(instant),
  expiresAt: orNull(instant),
  owner: orNull(id),
  leaseUntil: orNull(instant),
};
type ApiSessionRow = RowOf<typeof COLUMNS>;

/** Sessions at APIs that want a second step, one for each grant; opened by one replica at a time. */
export interface ApiSessionStore {
  /** Null: there is no row yet; then an empty one of version 0 is made. */
  read(grantId: string): Promise<ApiSessionRow | null>;
  /** Takes the lease of this version; `discards`: what is stored is gone at the API. False: another replica opens it. */
  claim(grantId: string, me: string, version: number, options: { leaseMs: number; discards: boolean }): Promise<boolean>;
  /** Saves what was opened in place of the version before, and ends the lease. */
  save(grantId: string, opened: { version: number; sealed: Buffer; baseUrl: string | null; issuedAt: number; expiresAt: number }): Promise<void>;
  release(grantId: string, me: string): Promise<void>;
}

export function apiSessionStore(database: Database): ApiSessionStore {
  const table = defineTable(database, 'api_sessions', COLUMNS, { primaryKey: ['grantId'] });
  return {
    async read(grantId) {
      const row = await table.find({ grantId });
      if (!row) await database.write('INSERT IGNORE INTO api_sessions (grant_id, version) VALUES ($1, 0)', [idBytes(grantId)]);
      return row;
    },
    claim: async (grantId, me, version, { leaseMs, discards }) =>
      (await database.write(
        `UPDATE api_sessions
         SET owner = $1, lease_until = UTC_TIMESTAMP(3) + ${intervalText(leaseMs)}${discards ? ', sealed = NULL' : ''}
         WHERE grant_id = $2 AND version = $3 AND (lease_until IS NULL OR lease_until < UTC_TIMESTAMP(3))`,
        [idBytes(me), idBytes(grantId), version],
      )) > 0,
    save: async (grantId, { version, sealed, baseUrl, issuedAt, expiresAt }) =>
      void (await database.write(
        `UPDATE api_sessions
         SET version = $1, sealed = $2, base_url = $3, issued_at = $4, expires_at = $5, owner = NULL, lease_until = NULL
         WHERE grant_id = $6 AND version = $7`,
        [version, sealed, baseUrl, instantText(issuedAt), instantText(expiresAt), idBytes(grantId), version - 1],
      )),
    release: async (grantId, me) =>
      void (await database.write('UPDATE api_sessions SET owner = NULL, lease_until = NULL WHERE grant_id = $1 AND owner = $2', [
        idBytes(grantId),
        idBytes(me),
      ])),
  };
}
