import { randomBytes } from 'node:crypto';
import { chmodSync, readdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import type { Fault } from '../src/core/fault.ts';
import { masterKey } from '../src/core/sealing/master-key.ts';
import { Secret } from '../src/core/secret.ts';
import { keepResealing } from '../src/service/keys/index.ts';
import { ensureInstallation, openSealer } from '../src/service/sealer.ts';
import { type Database, openDatabase } from '../src/service/store/database.ts';
import { migrate } from '../src/service/store/migrate.ts';
import { SEALED_TABLES } from '../src/service/store/sealed-values.ts';
import { openStore, type Store } from '../src/service/store/store.ts';
import { newFolder, newMasterKey, removeFolder, rk, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addConnection, addEelgrass, agree, fetchToken, type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** The keys under which secrets are sealed: replaced while everything runs, changed, split, lost. */
const LONG = 120_000;
let standin: StandinUnderTest;
const running: ServiceUnderTest[] = [];
const start = async (options: Parameters<typeof startService>[0]) => {
  const service = await startService(options);
  running.push(service);
  return service;
};
let [service, call, database, databaseUrl, first] = [] as unknown as [ServiceUnderTest, ApiClient, Database, string, string];
let caller = { caller_id: '', key: '' };
const names = ['one', 'two', 'three'];
beforeAll(async () => {
  standin = await startEelgrass(4);
  [databaseUrl, first] = [await newDatabase(), newMasterKey()];
  service = await start({ databaseUrl, masterKey: first });
  call = await signIn(service);
  await addEelgrass(call, standin);
  for (const name of names) {
    await addConnection(call, name);
    await agree(call, name);
  }
  caller = await call('addCaller', { body: { name: 'board', connections: names } });
  database = openDatabase(databaseUrl, 2);
}, LONG);
afterAll(async () => {
  await database?.close();
  for (const one of running) await one.stop();
  for (const one of running) removeFolder(one.folder);
  await standin?.stop();
});
const token = (of: ServiceUnderTest, name: string) => fetchToken(of.url, caller.caller_id, caller.key, `${service.url}/connections/${name}`);

test('every sealed column of the database is known to whoever re-seals', async () => {
  const columns = await database.select<{ t: string; c: string }>(
    `SELECT TABLE_NAME AS t, COLUMN_NAME AS c FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = DATABASE() AND COLUMN_NAME RLIKE '(^|_)sealed$'`,
  );
  const known = SEALED_TABLES.flatMap((one) => one.columns.map((column) => `${one.table}.${column}`));
  expect(columns.map((one) => `${one.t}.${one.c}`).sort()).toEqual(known.sort());
});

test(
  'a new data key while renewals and callers go on: everything is sealed under it, the former one is deleted, nothing fails',
  async () => {
    const before = await call('showKeys');
    let [isOver, failed] = [false, 0];
    const load = (async () => {
      for (let turn = 0; !isOver; turn += 1) if ((await token(service, names[turn % 3] ?? '')).status !== 200) failed += 1;
    })();
    const begun = await call('rotateKeys');
    expect(begun.data_keys.find((key) => key.seals)?.id).not.toBe(before.data_keys[0]?.id);
    const done = await eventually(async () => {
      const now = await call('showKeys');
      return now.reseal?.state === 'done' ? now : null;
    }, LONG);
    isOver = true;
    await load;
    expect(failed).toBe(0);
    expect(done.data_keys.map((key) => [key.seals, key.values > 0])).toEqual([[true, true]]);
    expect(done.without_key).toBe(0);
    for (const name of names) await call('renewConnection', { params: { connection: name } });
    expect((await call('listConnections')).items.map((one) => one.state)).toEqual(['working', 'working', 'working']);
  },
  LONG,
);

test(
  'the master key is changed by a start with both; the former alone is refused by name; a replica with it goes on, and makes no keys',
  async () => {
    const second = newMasterKey();
    const changed = await start({ databaseUrl, masterKey: second, publicUrl: service.url, environment: { RUSTY_KETTLE_FORMER_MASTER_KEY: first } });
    expect(changed.output()).toContain('the master key was changed');
    expect((await token(changed, 'one')).status).toBe(200);
    expect((await token(service, 'two')).status).toBe(200);
    await expect(call('rotateKeys')).rejects.toThrow(/was changed to/);
    await expect(start({ databaseUrl, masterKey: first, publicUrl: service.url })).rejects.toThrow(
      /MASTER_KEY_WRONG|It was changed .*perhaps by another replica/s,
    );
    await expect(start({ databaseUrl, masterKey: newMasterKey(), publicUrl: service.url })).rejects.toThrow(/The database wants the key/);
    await service.stop();
    const there = await signIn(changed);
    expect((await there('verifyActivity', { body: {} })).checked).toBeGreaterThan(0); // the log's own key outlives the change
    expect((await there('listHistory', { query: { kind: 'master_key_changed' } })).items.length).toBe(1);
    const rotated = await there('rotateKeys');
    expect(rotated.data_keys.some((key) => key.seals && key.master_key === rotated.master_key)).toBe(true);
    first = second;
  },
  LONG,
);

test(
  'the master key from a program and from shares that people hold',
  async () => {
    const folder = newFolder();
    const home = newFolder();
    writeFileSync(join(folder, 'key'), first);
    const program = join(folder, 'print-key');
    writeFileSync(program, `#!/bin/sh\ncat "${join(folder, 'key')}"\n`);
    chmodSync(program, 0o700);
    const by = async (environment: Record<string, string>) => {
      const one = await start({ databaseUrl, publicUrl: service.url, environment: { RUSTY_KETTLE_MASTER_KEY: '', ...environment } });
      expect((await token(one, 'one')).status).toBe(200);
      await one.stop();
    };
    await by({ RUSTY_KETTLE_MASTER_KEY_COMMAND: program });
    const ran = await rk(['keys', 'split', join(folder, 'key'), '--shares', '5', '--needed', '3', '--to', join(folder, 'shares')], { home });
    expect([ran.code, ran.out]).toEqual([0, expect.stringContaining('any 3 give the key')]);
    expect(ran.out).not.toContain(first);
    const shares = readdirSync(join(folder, 'shares')).map((name) => join(folder, 'shares', name));
    expect(shares).toHaveLength(5);
    await by({ RUSTY_KETTLE_MASTER_KEY_SHARES: [shares[4], shares[0], shares[2]].join(', ') });
    await expect(by({ RUSTY_KETTLE_MASTER_KEY_SHARES: [shares[0], shares[1]].join(', ') })).rejects.toThrow(/database wants the key/);
    await expect(by({ RUSTY_KETTLE_MASTER_KEY_COMMAND: `${program} && true`, RUSTY_KETTLE_MASTER_KEY_SHARES: 'x' })).rejects.toThrow(/more than one way/);
    await expect(by({ RUSTY_KETTLE_MASTER_KEY_COMMAND: '/bin/echo hello' })).rejects.toThrow(/did not print 32 bytes/);
    removeFolder(folder);
    removeFolder(home);
  },
  LONG,
);

/** A store that is killed at its n-th write to these repositories. */
class Killed extends Error {}
function killedAt(store: Store, writes: number): Store {
  let left = writes;
  const guarded = <T extends object>(repository: T): T =>
    new Proxy(repository, {
      get(target, name) {
        const method = Reflect.get(target, name) as unknown;
        if (typeof method !== 'function' || !['rewrap', 'change', 'replace', 'advance', 'destroy', 'add', 'retire'].includes(String(name))) return method;
        return (...given: unknown[]) => {
          left -= 1;
          if (left < 0) throw new Killed();
          return (method as (...all: unknown[]) => unknown).apply(target, given);
        };
      },
    });
  return { ...store, dataKeys: guarded(store.dataKeys), installation: guarded(store.installation), sealedValues: guarded(store.sealedValues) };
}

test(
  'killed at every step of a change of the master key and of re-sealing: it goes on where it was, and every value opens',
  async () => {
    const own = openDatabase(await newDatabase(), 2);
    await migrate(own, '01890000-0000-7000-8000-000000000001');
    const store = openStore(own);
    const log = { error: () => undefined, warn: () => undefined, info: () => undefined, debug: () => undefined };
    const ports = {
      clock: { now: () => Date.now() },
      random: { unit: Math.random, bytes: (count: number) => new Uint8Array(randomBytes(count)) },
      log,
      sleep: async () => undefined,
    } as never;
    const history = { add: () => undefined } as never;
    let present = masterKey(randomBytes(32));
    await ensureInstallation({ store: store.installation, master: present, publicUrl: 'http://127.0.0.1:1', ports });
    const { sealer } = await openSealer({ store, master: present, former: null, ports });
    const ids = Array.from({ length: 7 }, (_, at) => `01890000-0000-7000-8000-0000000001${String(at).padStart(2, '0')}`);
    for (const id of ids) {
      const sealed = sealer.seal({ table: 'event_receivers', row: id, column: 'secret_sealed' }, new Secret(`secret of ${id}`));
      await own.write(
        'SET STATEMENT foreign_key_checks = 0 FOR INSERT INTO event_receivers (caller_id, url, secret_sealed, changed_at) VALUES (UNHEX(REPLACE($1, "-", "")), "http://x.test", $2, UTC_TIMESTAMP(3))',
        [id, sealed],
      );
    }
    const allOpen = async () => {
      const { sealer: now } = await openSealer({ store, master: present, former: null, ports });
      for (const id of ids) {
        const [row] = await own.select<{ sealed: Buffer }>(
          'SELECT secret_sealed AS sealed FROM event_receivers WHERE caller_id = UNHEX(REPLACE($1, "-", ""))',
          [id],
        );
        const text = await now.open({ table: 'event_receivers', row: id, column: 'secret_sealed' }, row?.sealed ?? Buffer.alloc(0));
        expect(text.reveal()).toBe(`secret of ${id}`);
      }
      return now;
    };
    for (let round = 0; round < 3; round += 1) await (await allOpen()).rotate(); // several keys to re-wrap
    let kills = 0;
    for (let step = 0; ; step += 1) {
      const next = masterKey(randomBytes(32));
      const isKilled = await openSealer({ store: killedAt(store, step), master: next, former: present, ports }).then(
        () => false,
        (error) => {
          if (!(error instanceof Killed)) throw error;
          return true;
        },
      );
      if (isKilled) {
        kills += 1;
        // Whoever starts again with both keys finishes it; the former alone is not enough, or nothing was changed.
        await openSealer({ store, master: present, former: null, ports }).catch((error) => expect((error as Fault).code).toBe('MASTER_KEY_WRONG'));
        await openSealer({ store, master: next, former: present, ports });
      }
      present = next;
      await allOpen();
      if (!isKilled) break;
    }
    expect(kills).toBeGreaterThan(4);

    kills = 0;
    for (let step = 0; ; step += 1) {
      const now = await allOpen();
      const keyId = await now.rotate();
      await store.sealedValues.begin({
        ...{ id: `01890000-0000-7000-8000-00000000${String(9000 + step)}`, keyId, state: 'running', position: { table: 0, after: null }, done: 0, total: 8 },
        ...{ startedBy: 'marit', startedAt: Date.now() + step, endedAt: null, busyUntil: null },
      });
      const round = async (of: Store): Promise<boolean> => {
        const stop = new AbortController();
        let isKilled = false;
        const parts = {
          store: of,
          sealer: now,
          history,
          changes: {} as never,
          ports: {
            ...(ports as object),
            sleep: async () => stop.abort(),
            log: { ...log, error: ({ cause }: { cause?: string }) => (isKilled ||= cause !== undefined) },
          } as never,
        };
        await keepResealing(parts, stop.signal);
        return isKilled;
      };
      const isKilled = await round(killedAt(store, step));
      if (isKilled) kills += 1;
      await own.write('UPDATE reseals SET busy_until = NULL');
      await round(store);
      const keys = await store.dataKeys.all();
      expect([(await store.sealedValues.reseal())?.state, keys.length]).toEqual(['done', 1]);
      await allOpen();
      if (!isKilled) break;
    }
    expect(kills).toBeGreaterThan(10);
    await own.close();
  },
  LONG,
);
