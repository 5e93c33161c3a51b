import { randomBytes } from 'node:crypto';
import { setTimeout as sleep } from 'node:timers/promises';
import { newRecordId } from '../src/core/identifiers.ts';
import { firstRow } from '../src/core/renewal/row.ts';
import { masterKey } from '../src/core/sealing/master-key.ts';
import { Secret } from '../src/core/secret.ts';
import { hashOf } from '../src/service/hash.ts';
import { openSealer, type Sealer } from '../src/service/sealer.ts';
import { type Bind, type Database, idBytes, instantText, openDatabase } from '../src/service/store/database.ts';
import { openStore } from '../src/service/store/store.ts';

/** One connection as it would be after a consent, written straight into the tables: for loads that no consent could make in time. */
export interface SeededConnection {
  name: string;
  access: string;
  refresh: string;
  /** Epoch ms of the database. */
  issuedAt: number;
  expiresAt: number;
  nextAt: number;
  /** Of a person in a shared connection, by the application's key. */
  person?: { sharedId: string; key: string };
}

export interface Seeder {
  database: Database;
  sealer: Sealer;
  /** Adds connections of one client, and permits them to one caller; the grant ids in order. */
  add(client: { provider: string; client: string }, connections: SeededConnection[], caller?: string): Promise<string[]>;
  /** Resolves when the service has worked out the shown states of all connections, which it does in the background after they were added. */
  settled(): Promise<void>;
  close(): Promise<void>;
}

const ROWS_EACH = 250;
const SETTLED_WITHIN_MS = 300_000;
const newId = (): string => newRecordId(Date.now(), randomBytes(16));

/** For a database that a service has migrated already. */
export async function openSeeder(databaseUrl: string, masterKeyText: string): Promise<Seeder> {
  const database = openDatabase(databaseUrl, 4);
  const store = openStore(database);
  const ports = { clock: { now: () => Date.now() }, random: { unit: Math.random, bytes: (count: number) => new Uint8Array(randomBytes(count)) } };
  const { sealer } = await openSealer({ store, master: masterKey(Buffer.from(masterKeyText, 'base64')), former: null, ports });
  const insert = async (table: string, columns: string, rows: Bind[][]): Promise<void> => {
    for (let from = 0; from < rows.length; from += ROWS_EACH) {
      const bind: Bind[] = [];
      const values = rows.slice(from, from + ROWS_EACH).map((row) => `(${row.map((value) => `$${bind.push(value)}`).join(', ')})`);
      await database.write(`INSERT INTO ${table} (${columns}) VALUES ${values.join(', ')}`, bind);
    }
  };
  return {
    database,
    sealer,
    async add({ provider, client }, connections, caller) {
      const owner = await store.providers.byName(provider);
      const clientRow = owner && (await store.clients.byName(owner.id, client));
      const callerRow = caller ? await store.callers.byName(caller) : null;
      if (!clientRow || (caller && !callerRow)) throw new Error('the client or the caller to seed for is not there');
      const made = connections.map((one) => ({ ...one, id: newId(), grantId: newId() }));
      const now = instantText(Date.now());
      const scopes = JSON.stringify(['tables.read', 'offline_access']);
      await insert(
        'grants',
        'id, connection_id, kind, scopes, consented_by, consented_at, proof',
        made.map((one) => [idBytes(one.grantId), idBytes(one.id), 'authorization_code', scopes, 'seed', now, 'not_defined']),
      );
      await insert(
        'tokens',
        'grant_id, access_sealed, refresh_sealed',
        made.map((one) => {
          const place = (column: string) => ({ table: 'tokens', row: one.grantId, column });
          return [
            idBytes(one.grantId),
            sealer.seal(place('access_sealed'), new Secret(one.access)),
            sealer.seal(place('refresh_sealed'), new Secret(one.refresh)),
          ];
        }),
      );
      await insert(
        'renewals',
        'grant_id, client_id, next_at, epoch, generation, failures, ended, issued_at, expires_at',
        made.map((one) => {
          const row = firstRow(one, one.nextAt);
          const [nextAt, issuedAt, expiresAt] = [one.nextAt, one.issuedAt, one.expiresAt].map(instantText);
          return [idBytes(one.grantId), idBytes(clientRow.id), nextAt ?? null, row.epoch, row.generation, 0, 0, issuedAt ?? null, expiresAt ?? null];
        }),
      );
      // Last: the service works out a connection's state from the rows above as soon as it sees it.
      await insert(
        'connections',
        'id, name, client_id, intent, current_grant_id, scopes, labels, policy, revision, created_at, person_of, person_hash, person_key',
        made.map((one) => [
          ...[idBytes(one.id), one.name, idBytes(clientRow.id), 'active', idBytes(one.grantId), scopes, '{}', 'always', 1, now],
          ...(one.person ? [idBytes(one.person.sharedId), hashOf(one.person.key), one.person.key] : [null, null, null]),
        ]),
      );
      if (callerRow)
        await insert(
          'permissions',
          'id, caller_id, connection_id',
          made.map((one) => [idBytes(newId()), idBytes(callerRow.id), idBytes(one.id)]),
        );
      return made.map((one) => one.grantId);
    },
    async settled() {
      for (const endsAt = performance.now() + SETTLED_WITHIN_MS; performance.now() < endsAt; await sleep(250)) {
        const [row] = await database.select<{ n: number | bigint }>('SELECT COUNT(*) AS n FROM connections WHERE check_state_at < UTC_TIMESTAMP(3)');
        if (Number(row?.n ?? 0) === 0) return;
      }
      throw new Error('the states of the seeded connections were not worked out in time');
    },
    async close() {
      await sealer.stop();
      await database.close();
    },
  };
}
