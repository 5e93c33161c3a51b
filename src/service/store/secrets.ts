import { SECRET_STATES } from '../../core/clients/choose-secret.ts';
import type { KeyFacts } from '../../core/oauth/client-keys.ts';
import { SECRET_KINDS } from '../../core/oauth/methods.ts';
import { bytes, documentWith, id, instant, json, oneOf, orElse, orNull, text } from './column.ts';
import { type Database, idBytes } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const COLUMNS = {
  id,
  clientId: id,
  kind: oneOf(SECRET_KINDS),
  label: text,
  sealed: bytes,
  enteredAt: orNull(instant),
  startsAt: instant,
  endsAt: orNull(instant),
  provedAt: orNull(instant),
  refusedAt: orNull(instant),
  refusedWhy: orNull(text),
  tryingUntil: orNull(instant),
  /** Of a key or certificate. */
  facts: orElse(json(documentWith<KeyFacts>('type', 'kid').nullable()), null),
  state: oneOf(SECRET_STATES),
};
export type SecretRow = RowOf<typeof COLUMNS>;

const EMPTY = Buffer.alloc(0);

/** The secrets, passwords, keys and certificates of clients over time. A retired one has lost its value. */
export interface SecretStore {
  byId(secretId: string): Promise<SecretRow | null>;
  ofClientById(clientId: string, secretId: string): Promise<SecretRow | null>;
  /** By start date. */
  ofClient(clientId: string): Promise<SecretRow[]>;
  /** All but the retired ones. */
  keptOf(clientId: string): Promise<SecretRow[]>;
  /** Adds a secret; `replacing`: `all` retires those that are there, `active` puts the current one aside as rejected. */
  add(row: SecretRow, replacing: 'all' | 'active' | 'none'): Promise<void>;
  change(secretId: string, set: Partial<SecretRow>): Promise<void>;
  /** The same, only while it is in that state. */
  changeIn(secretId: string, state: SecretRow['state'], set: Partial<SecretRow>): Promise<void>;
  /** Deletes its value. */
  retire(secretId: string): Promise<void>;
  /** Whether this request may be the one that tests an unverified secret, for so many seconds. */
  mayTry(secretId: string, seconds: number): Promise<boolean>;
  /** The provider accepted it: it becomes the current one. True: another one was in use before. */
  accepted(clientId: string, secretId: string): Promise<boolean>;
  /** The provider rejected it. True: for the first time. */
  rejected(secretId: string, evidence: string): Promise<boolean>;
}

export function secretStore(database: Database): SecretStore {
  const table = defineTable(database, 'client_secrets', COLUMNS, { primaryKey: ['id'] });
  return {
    byId: (secretId) => table.find({ id: secretId }),
    ofClientById: (clientId, secretId) => table.find({ id: secretId, clientId }),
    ofClient: (clientId) => table.list({ clientId }, { orderBy: 'startsAt' }),
    keptOf: (clientId) => table.list({ clientId, state: SECRET_STATES.filter((state) => state !== 'retired') }),
    add: (row, replacing) =>
      database.transaction(async (transaction) => {
        const { clientId } = row;
        if (replacing === 'all') await table.change({ clientId }, { state: 'retired', sealed: EMPTY }, transaction);
        if (replacing === 'active') await table.change({ clientId, state: 'active' }, { state: 'rejected' }, transaction);
        await table.insert(row, transaction);
      }),
    change: async (secretId, set) => void (await table.change({ id: secretId }, set)),
    changeIn: async (secretId, state, set) => void (await table.change({ id: secretId, state }, set)),
    retire: async (secretId) => void (await table.change({ id: secretId }, { state: 'retired', sealed: EMPTY })),
    mayTry: async (secretId, seconds) =>
      (await database.write(
        `UPDATE client_secrets SET trying_until = UTC_TIMESTAMP(3) + INTERVAL ${Math.floor(seconds)} SECOND
         WHERE id = $1 AND state = 'unverified' AND (trying_until IS NULL OR trying_until < UTC_TIMESTAMP(3))`,
        [idBytes(secretId)],
      )) === 1,
    accepted: (clientId, secretId) =>
      database.transaction(async (transaction) => {
        const changed = await database.write(
          `UPDATE client_secrets
           SET state = 'active', proved_at = COALESCE(proved_at, UTC_TIMESTAMP(3)), refused_at = NULL, refused_why = NULL, trying_until = NULL
           WHERE id = $1 AND state <> 'retired' AND (state <> 'active' OR proved_at IS NULL OR refused_at IS NOT NULL)`,
          [idBytes(secretId)],
          transaction,
        );
        if (changed === 0) return false;
        const replaced = await database.write(
          `UPDATE client_secrets SET state = CASE WHEN refused_at IS NULL THEN 'former' ELSE 'rejected' END
           WHERE client_id = $1 AND id <> $2 AND state = 'active'`,
          [idBytes(clientId), idBytes(secretId)],
          transaction,
        );
        return replaced > 0;
      }),
    async rejected(secretId, evidence) {
      const changed = await database.write(
        `UPDATE client_secrets
         SET refused_at = UTC_TIMESTAMP(3), refused_why = $1, trying_until = NULL, state = CASE WHEN state = 'unverified' THEN 'rejected' ELSE state END
         WHERE id = $2 AND state <> 'retired' AND refused_at IS NULL`,
        [evidence.slice(0, 500), idBytes(secretId)],
      );
      if (changed > 0) return true;
      await database.write('UPDATE client_secrets SET refused_at = UTC_TIMESTAMP(3) WHERE id = $1', [idBytes(secretId)]);
      return false;
    },
  };
}
