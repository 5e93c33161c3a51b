import { generateKeyPairSync } from 'node:crypto';
import { mkdirSync, readFileSync, truncateSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { gzip } from 'node:zlib';
import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { type ApiClient, apiClient } from '../src/api/client.ts';
import { backupWriter } from '../src/core/backup/envelope.ts';
import { openDatabase } from '../src/service/store/database.ts';
import { snapshotStore } from '../src/service/store/snapshot.ts';
import { newFolder, newMasterKey, PASSWORD, removeFolder, rk, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually, staysFor } from '../testing/waiting.ts';
import { addClient, addConnection, addEelgrass, agree, fetchToken, type StandinUnderTest, startBerthline, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** The day on which the disk is lost, and the day on which somebody restores while the old machine still runs. */
const LONG = 240_000;
/** Installations look for each other every 15 seconds. */
const WAIT = 60_000;
const made = generateKeyPairSync('ec', { namedCurve: 'P-256' });
const folder = newFolder();
const files = { public: join(folder, 'restore.pub'), private: join(folder, 'restore.key') };
writeFileSync(files.public, made.publicKey.export({ type: 'spki', format: 'pem' }));
writeFileSync(files.private, made.privateKey.export({ type: 'pkcs8', format: 'pem' }));

let [eelgrass, berthline] = [] as unknown as [StandinUnderTest, StandinUnderTest];
const running: ServiceUnderTest[] = [];
beforeAll(async () => {
  [eelgrass, berthline] = await Promise.all([startEelgrass(4), startBerthline(3_600)]);
}, LONG);
afterAll(async () => {
  for (const one of running) await one.stop();
  await eelgrass?.stop();
  await berthline?.stop();
  for (const one of running) removeFolder(one.folder);
  removeFolder(folder);
});

const start = async (options: Parameters<typeof startService>[0]): Promise<ServiceUnderTest> => {
  const service = await startService(options);
  running.push(service);
  return service;
};
const asMarit = async (service: ServiceUnderTest): Promise<ApiClient> => {
  const { token = '' } = await apiClient({ baseUrl: service.url })('signIn', { body: { name: 'marit', password: PASSWORD, keeps: 'token' } });
  return apiClient({ baseUrl: service.url, token });
};
const home = newFolder();
const signedInRk = async (service: ServiceUnderTest, args: string[], input?: string) => {
  await rk(['sign-in', '--url', service.url, '--name', 'marit'], { home, input: PASSWORD });
  return rk(['--url', service.url, ...args], { home, ...(input === undefined ? {} : { input }) });
};
interface Target {
  databaseUrl: string;
  masterKey: string;
  folder: string;
}
const newTarget = async (): Promise<Target> => ({ databaseUrl: await newDatabase(), masterKey: newMasterKey(), folder: newFolder() });
const environmentOf = (target: Target) => ({
  RUSTY_KETTLE_DATABASE_URL: target.databaseUrl,
  RUSTY_KETTLE_MASTER_KEY: target.masterKey,
  RUSTY_KETTLE_DATA_FOLDER: target.folder,
});
const restored = (target: Target, file: string, more: string[] = ['--key', files.private, '--signer', 'any'], input?: string) =>
  rk(['restore', file, ...more], { home, environment: environmentOf(target), ...(input === undefined ? {} : { input }) });

/** Connections with short tokens that are renewed all the time, and strict ones with long tokens; a caller for all. */
async function stage() {
  const target = await newTarget();
  const service = await start(target);
  const call = await signIn(service);
  await addEelgrass(call, eelgrass);
  await call('addProvider', { body: { document: berthline.definitionText } });
  await addClient(call, berthline, 'harbour', { provider: 'berthline', placeholders: { region: 'north' } });
  const names = { short: ['short-1', 'short-2', 'short-3'], strict: ['strict-1', 'strict-2', 'strict-3'] };
  for (const name of names.short) {
    await addConnection(call, name);
    await agree(call, name);
  }
  for (const name of names.strict) {
    await call('addConnection', { body: { name, provider: 'berthline', client: 'harbour', scopes: ['bookings.read', 'offline_access'].slice(0, 1) } });
    await agree(call, name);
  }
  const caller = await call('addCaller', { body: { name: 'board', connections: [...names.short, ...names.strict] } });
  return { target, service, call, names, caller: { id: caller.caller_id, key: caller.key } };
}
const statesOf = async (call: ApiClient) => Object.fromEntries((await call('listConnections')).items.map((one) => [one.name, one.state]));

/** A copy for practice shows everything and calls nobody, also on request. */
async function practiced(file: string, caller: { id: string; key: string }): Promise<void> {
  const calls = async () => [await eelgrass.counters(), await berthline.counters()];
  const before = await calls();
  const target = await newTarget();
  expect((await restored(target, file, ['--practice', '--key', files.private, '--signer', 'any'])).code).toBe(0);
  const service = await start(target);
  const call = await asMarit(service);
  expect((await call('showSession')).installation.practice).toBe(true);
  expect((await call('listConnections')).total).toBe(6);
  expect((await fetchToken(service.url, caller.id, caller.key, `${service.url}/connections/strict-1`)).body).toMatchObject({
    error: 'temporarily_unavailable',
  });
  await expect(call('ownInstallation')).rejects.toMatchObject({ problem: { code: 'PRACTICE_RESTORE' } });
  await call('renewConnection', { params: { connection: 'short-1' } }).catch(() => undefined);
  expect(await calls()).toEqual(before);
  await service.stop();
}

describe('the drill', () => {
  test(
    'a backup under load, everything killed, restored elsewhere: every connection that can be recovered goes on, and people sign in',
    async () => {
      const { service, names, caller } = await stage();
      let [asked, isOver] = [0, false];
      const load = (async () => {
        while (!isOver) {
          const { status } = await fetchToken(service.url, caller.id, caller.key, `${service.url}/connections/${names.short[asked % 3]}`).catch(() => ({
            status: 0,
          }));
          asked += status === 200 ? 1 : 0;
        }
      })();
      const drill = join(folder, 'drill');
      mkdirSync(drill);
      const file = join(drill, 'drill.backup');
      const ran = await signedInRk(service, ['backup', 'add', '--recipient', files.public, '--to', file]);
      expect([ran.code, ran.err]).toEqual([0, '']);
      isOver = true;
      await load;
      expect(asked).toBeGreaterThan(10);
      const text = readFileSync(file, 'utf8');
      expect(text.split('\n')[0]).toMatch(/^eyJ/);
      for (const canary of [PASSWORD, caller.key, 'short-1', 'berthline']) expect(text.includes(canary)).toBe(false);
      const practice = await signedInRk(service, ['restore', '--practice', '--check', drill, '--key', files.private, '--signer', 'any', '--report']);
      expect([practice.code, practice.err]).toEqual([0, '']);
      expect(practice.out).toMatch(/good: everything in it can be restored.*6 connections.*0 do not/s);
      const { last } = await (await asMarit(service))('showPractice');
      expect(last).toMatchObject({ good: true, faults: [], file: 'drill.backup', facts: { counts: { connections: 6 }, definitions: { read: 2 } } });
      await service.kill();
      await practiced(file, caller);

      const target = await newTarget();
      const done = await restored(target, file);
      expect([done.code, done.err]).toEqual([0, '']);
      const next = await start(target);
      const again = await asMarit(next);
      // Nobody knows yet that the former one is gone: nothing that could end a grant is sent.
      const held = (await again('showInstallation')).why ?? '';
      expect(held).toContain('Restored from the backup of');
      expect((await again('listNotices', { query: {} })).items.map((one) => one.kind)).toContain('installation');
      const risks = (await again('listInstallationRisks')).items;
      expect(risks.map((one) => one.connection)).toEqual([...names.strict, ...names.short]); // those that would be lost for good come first
      expect(new Set(risks.map((one) => one.says)).size).toBe(2);
      const before = (await berthline.counters()).counters;
      await again('ownInstallation');
      for (const name of names.strict) await again('renewConnection', { params: { connection: name } });
      const states = await statesOf(again);
      // Strict grants were not renewed after the backup: all of them are recovered. Those that were renewed after it may have gone on without us.
      for (const name of names.strict) expect([name, states[name]]).toEqual([name, 'working']);
      expect((await berthline.counters()).counters.reuse ?? 0).toBe(before.reuse ?? 0);
      const token = await fetchToken(next.url, caller.id, caller.key, `${next.url}/connections/strict-1`);
      expect(token.status).toBe(200);
      expect((await again('verifyActivity', { body: {} })).checked).toBeGreaterThan(0);
      const keys = await again('showKeys');
      expect(keys.without_key).toBe(0);
      expect(new Set(keys.data_keys.map((key) => key.master_key))).toEqual(new Set([keys.master_key]));
    },
    LONG,
  );
});

describe('the fence', () => {
  test(
    'a copy beside an installation that runs stays on hold, and the original goes on; when an operator moves the grants, it stops and transfers what is newer',
    async () => {
      const { service, call, names } = await stage();
      const file = join(folder, 'fence.backup');
      expect((await signedInRk(service, ['backup', 'add', '--recipient', files.public, '--to', file])).code).toBe(0);
      const target = await newTarget();
      const { code, out } = await restored(target, file);
      expect([code, out]).toEqual([0, expect.stringContaining('stays on hold')]);
      const next = await start(target);
      const there = await asMarit(next);
      // What the backup holds is outdated from here on.
      for (const name of names.strict) await call('renewConnection', { params: { connection: name } });
      await staysFor(5_000, async () => [(await call('showInstallation')).held, (await there('showInstallation')).held]);
      expect([(await call('showInstallation')).held, (await there('showInstallation')).held]).toEqual([false, true]);
      // A second copy of the same backup harms nobody either.
      const twin = await newTarget();
      expect((await restored(twin, file)).code).toBe(0);
      const third = await start(twin);
      const elsewhere = await asMarit(third);
      await there('ownInstallation');
      expect([(await call('showInstallation')).held, (await there('showInstallation')).held]).toEqual([true, false]);
      expect((await call('showInstallation')).why).toContain(`was restored at ${next.url}`);
      expect(service.output()).toContain('RENEWALS ARE HELD');
      const [told] = (await there('listHistory', { query: { kind: 'fence_former_stopped' } })).items;
      expect(told?.says).toMatch(/transferred \d+ newer tokens/);
      // The former one renews nothing any more, whoever asks; the new one does, and every strict grant lives.
      await expect(call('renewConnection', { params: { connection: 'strict-1' } })).rejects.toThrow(/are on hold/);
      for (const name of names.strict) await there('renewConnection', { params: { connection: name } });
      expect(await statesOf(there)).toMatchObject(Object.fromEntries(names.strict.map((name) => [name, 'working'])));
      expect((await elsewhere('showInstallation')).held).toBe(true);
      // The tokens went to the first copy; who moves the grants to the second one all the same is not stopped by an error.
      expect((await elsewhere('ownInstallation')).held).toBe(false);
    },
    LONG,
  );

  test(
    'to move, it holds first: what is renewed all the time goes on elsewhere without a new consent',
    async () => {
      const { service, names } = await stage();
      const file = join(folder, 'move.backup');
      const ran = await signedInRk(service, ['backup', 'add', '--recipient', files.public, '--move', '--to', file]);
      expect([ran.code, ran.out]).toEqual([0, expect.stringContaining('on hold')]);
      const target = await newTarget();
      expect((await restored(target, file)).code).toBe(0);
      const there = await asMarit(await start(target));
      await eventually(async () => ((await there('showInstallation')).held ? null : true), WAIT);
      for (const name of [...names.short, ...names.strict]) await there('renewConnection', { params: { connection: name } });
      expect(new Set(Object.values(await statesOf(there)))).toEqual(new Set(['working']));
    },
    LONG,
  );

  test(
    'two copies that answer at one address both stop, until someone lets one go on',
    async () => {
      const { service } = await stage();
      const file = join(folder, 'twins.backup');
      expect((await signedInRk(service, ['backup', 'add', '--to', file], 'a passphrase of some length')).code).toBe(0);
      await service.stop();
      const [one, two] = [await newTarget(), await newTarget()];
      for (const target of [one, two]) expect((await restored(target, file, ['--former-is-gone'], 'a passphrase of some length')).code).toBe(0);
      const first = await start(one);
      const second = await start({ ...two, publicUrl: first.url });
      const [a, b] = [await asMarit(first), await asMarit(second)];
      await eventually(async () => ((await a('showInstallation')).held && (await b('showInstallation')).held ? true : null), WAIT);
      await second.stop();
      await a('ownInstallation');
      expect((await a('showInstallation')).held).toBe(false);
    },
    LONG,
  );

  test(
    'strangers cannot hold an installation',
    async () => {
      const { service, call } = await stage();
      const forged = { installation: '0', generation: 99, restore: null, challenge: 'x'.repeat(24), at: Date.now(), url: 'http://evil.test', proof: 'x' };
      for (const body of [forged, {}, { ...forged, extra: 1 }]) {
        const response = await fetch(`${service.url}/fence`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify(body) });
        expect(response.status).toBe(404);
      }
      expect((await call('showInstallation')).held).toBe(false);
    },
    LONG,
  );
});

describe('bad days', () => {
  let [service, call, file] = [] as unknown as [ServiceUnderTest, ApiClient, string];
  beforeAll(async () => {
    const target = await newTarget();
    service = await start(target);
    call = await signIn(service);
    await addEelgrass(call, eelgrass);
    file = join(folder, 'bad.backup');
    expect((await signedInRk(service, ['backup', 'add', '--to', file], 'six boats at low tide')).code).toBe(0);
  }, LONG);

  test(
    'a wrong passphrase, a cut file, a damaged one, no backup: named, and nothing is changed',
    async () => {
      const target = await newTarget();
      const cut = join(folder, 'cut.backup');
      writeFileSync(cut, readFileSync(file));
      truncateSync(cut, readFileSync(file).length - 2_000);
      const none = join(folder, 'none.backup');
      writeFileSync(none, 'hello\n');
      for (const [which, input, says] of [
        [file, 'seven boats at low tide', 'The passphrase is wrong'],
        [cut, 'six boats at low tide', 'does not open|was cut'],
        [none, 'six boats at low tide', 'does not begin as a backup'],
        [join(folder, 'missing'), 'x', 'cannot be read'],
      ] as const) {
        const ran = await restored(target, which, [], input);
        expect([ran.code, ran.err]).toEqual([1, expect.stringMatching(says)]);
        expect(ran.err).toContain('What to do:');
      }
      const database = openDatabase(target.databaseUrl, 1);
      expect(await database.select('SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE()')).toEqual([]);
      await database.close();
    },
    LONG,
  );

  test(
    'a backup that is locked for a key is restored where the installation signed it, and nobody else: not without saying who, not by whoever has the public key',
    async () => {
      const target = await newTarget();
      const mine = join(folder, 'signed.backup');
      expect((await signedInRk(service, ['backup', 'add', '--recipient', files.public, '--to', mine])).code).toBe(0);
      const { signer } = JSON.parse((await signedInRk(service, ['backup', 'plan', '--output', 'json'])).out) as { signer: string };
      // Opened with the private key and written again for the public one: whoever has only the latter can write any rows as well.
      const writer = await backupWriter({ recipient: readFileSync(files.public, 'utf8') });
      const forged = join(folder, 'forged.backup');
      const manifest = {
        format: 'rusty-kettle-backup/1',
        version: '9.0.0',
        made_at: new Date().toISOString(),
        installation: 'x',
        public_url: 'http://old.test',
      };
      const text = `${JSON.stringify({ ...manifest, migrations: [], master_key: newMasterKey(), results: true })}\n${JSON.stringify({ end: true, rows: 0 })}`;
      const lines = [writer.head, await writer.line(await promisify(gzip)(text), true)];
      writeFileSync(forged, `${lines.join('\n')}\n`);
      const taken = join(folder, 'taken.backup'); // the genuine signature below other rows
      writeFileSync(taken, `${[...lines, readFileSync(mine, 'utf8').trimEnd().split('\n').at(-1)].join('\n')}\n`);
      for (const [file, more, says] of [
        [mine, [], '--signer'],
        [mine, ['--signer', '0000-0000-0000-0000-0000-0000'], signer],
        [forged, ['--signer', signer], 'not signed'],
        [taken, ['--signer', signer], 'cannot be read'],
      ] as const) {
        const ran = await restored(target, file, ['--key', files.private, ...more]);
        expect([file, more, ran.code, ran.err]).toEqual([file, more, expect.not.stringMatching('^0$'), expect.stringContaining(says)]);
        expect(ran.code).not.toBe(0);
      }
      const ran = await restored(target, mine, ['--key', files.private, '--signer', signer, '--public-url', 'https://moved.example']);
      expect([ran.code, ran.out]).toEqual([0, expect.stringMatching(/Public URL +https:\/\/moved\.example\n/)]);
      expect(ran.out).toContain(signer);
    },
    LONG,
  );

  test(
    'an installation that is there is not overwritten; a restore that was killed is begun again',
    async () => {
      const target = await newTarget();
      expect((await restored(target, file, [], 'six boats at low tide')).code).toBe(0);
      const again = await restored(target, file, [], 'six boats at low tide');
      expect([again.code, again.err]).toEqual([5, expect.stringContaining('holds an installation')]);
      const database = openDatabase(target.databaseUrl, 1);
      await database.write('DELETE FROM installations'); // as one that was killed before its last step leaves it
      await database.close();
      expect((await restored(target, file, [], 'six boats at low tide')).code).toBe(0);
    },
    LONG,
  );

  test(
    'a backup of a newer version is refused by name; one of the last development version is restored and upgraded',
    async () => {
      const zipped = promisify(gzip);
      const craft = async (name: string, manifest: object, parts: object[], rows: number) => {
        const writer = await backupWriter({ recipient: readFileSync(files.public, 'utf8') });
        const text = [manifest, ...parts, { end: true, rows }].map((one) => JSON.stringify(one)).join('\n');
        const path = join(folder, name);
        writeFileSync(path, `${writer.head}\n${await writer.line(await zipped(text), true)}\n`);
        return path;
      };
      const base = { format: 'rusty-kettle-backup/1', version: '9.0.0', made_at: new Date().toISOString(), installation: 'x', public_url: 'http://old.test' };
      const newer = await craft('newer.backup', { ...base, migrations: ['1.0-baseline', '9999-later'], master_key: newMasterKey(), results: true }, [], 0);
      const refused = await restored(await newTarget(), newer);
      expect([refused.code, refused.err]).toEqual([1, expect.stringMatching(/newer version.*9999-later/)]);

      const fixture = (kind: 'sql' | 'json') => readFileSync(new URL(`./fixtures/database-before-1.0.${kind}`, import.meta.url), 'utf8');
      const database = openDatabase(await newDatabase(), 2);
      for (const statement of fixture('sql').split(/;\n/)) if (statement.trim() !== '') await database.run(statement);
      const store = snapshotStore(database);
      const parts = [];
      for await (const part of store.read({ results: true })) parts.push(part);
      const rows = parts.reduce((sum, part) => sum + part.rows.length, 0);
      const { masterKey } = JSON.parse(fixture('json')) as { masterKey: string };
      const older = await craft(
        'older.backup',
        { ...base, version: '0.6.0', migrations: await store.migrations(), master_key: masterKey, results: true },
        parts,
        rows,
      );
      await database.close();
      const target = await newTarget();
      const done = await restored(target, older, ['--key', files.private, '--signer', 'any', '--former-is-gone']);
      expect([done.code, done.err]).toEqual([0, '']);
      const next = await start(target);
      expect(await statesOf(await asMarit(next))).toMatchObject({ sailings: 'working', ended: 'revoked' });
    },
    LONG,
  );

  test(
    'a schedule writes backups, keeps as many as it should, and only to whoever has the key',
    async () => {
      await call('setBackupPlan', { body: { every_hours: 1, keep: 1, recipient: readFileSync(files.public, 'utf8'), results: false } });
      const first = await eventually(
        async () => (await call('listBackups')).items.find((one) => one.kind === 'scheduled' && one.state === 'done') ?? null,
        WAIT,
      );
      expect(first.lock).toBe('recipient');
      const plan = await call('showBackupPlan');
      expect(Date.parse(plan.next_at ?? '') - Date.parse(first.started_at)).toBe(3_600_000);
      await call('removeBackupPlan');
      expect((await call('showBackupPlan')).plan).toBe(null);
    },
    LONG,
  );
});
