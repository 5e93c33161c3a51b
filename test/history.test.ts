import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { chainKey } from '../src/core/activity/chain.ts';
import { random } from '../src/service/ports.ts';
import { instantText, openDatabase } from '../src/service/store/database.ts';
import { newFolder, newMasterKey, removeFolder, rk, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addConnection, addEelgrass, agree, type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

const [masterKey, folder] = [newMasterKey(), newFolder()];
const copy = join(folder, 'activity.ndjson');
let [service, standin, call, databaseUrl]: [ServiceUnderTest, StandinUnderTest, ApiClient & { token: string }, string] = [] as never;
beforeAll(async () => {
  standin = await startEelgrass(2);
  databaseUrl = await newDatabase();
  service = await startService({ databaseUrl, masterKey, environment: { RUSTY_KETTLE_ACTIVITY_FILE: copy } });
  call = await signIn(service);
  await addEelgrass(call, standin);
  await addConnection(call, 'tides');
  await agree(call, 'tides');
});
afterAll(async () => {
  await service?.stop();
  await standin?.stop();
  removeFolder(folder);
});
const subject = 'connection:tides';

test('routine renewals stay out of sight until they are requested; filters and pages hold together', async () => {
  const renewed = await eventually(async () => {
    const { items } = await call('listHistory', { query: { subject, renewals: 'true' } });
    return items.filter((one) => one.kind === 'renewed').length >= 3 ? items : null;
  });
  expect(renewed.map((one) => one.kind)).toContain('consented');
  const { items } = await call('listHistory', { query: { subject } });
  expect(items.map((one) => one.kind)).not.toContain('renewed');
  expect(items.map((one) => one.kind)).toContain('consented');
  expect((await call('listHistory', { query: { subject, kind: 'renewed' } })).items.every((one) => one.kind === 'renewed')).toBe(true);
  // Page by page, what one long answer has.
  const whole = (await call('listHistory', { query: { limit: 500 } })).items.map((one) => one.id);
  const pages: string[] = [];
  for (let more = true; more && pages.length < 500; ) {
    const page = await call('listHistory', { query: { limit: 3, ...(pages.length > 0 && { before: pages.at(-1) as string }) } });
    pages.push(...page.items.map((one) => one.id));
    more = page.more;
  }
  expect(pages).toEqual(whole);
  const since = new Date(Date.now() + 86_400_000).toISOString();
  expect((await call('listHistory', { query: { since } })).items).toEqual([]);
  await expect(call('listHistory', { query: { before: '00000000-0000-7000-8000-000000000000' } })).rejects.toMatchObject({ problem: { code: 'NOT_FOUND' } });
});

const verified = async () => {
  let [cursor, checked]: [string | null, number] = [null, 0];
  for (let pieces = 0; pieces < 100; pieces += 1) {
    const piece: Awaited<ReturnType<typeof call<'verifyActivity'>>> = await call('verifyActivity', { body: { cursor } });
    checked += piece.checked;
    if (piece.broken !== null || piece.next === null) return { ...piece, checked };
    cursor = piece.next;
  }
  throw new Error('the log does not end');
};

test('who, when, from where, in which request, before and after; filters by person and time; each entry also in the file', async () => {
  const { revision } = await call('showConnection', { params: { connection: 'tides' } });
  const before = new Date().toISOString();
  await call('changeConnection', { params: { connection: 'tides' }, body: { revision, labels: ['ops'], policy: 'on_demand' } });
  const [entry] = (await call('listHistory', { query: { kind: 'connection_changed', actor: 'marit', since: before } })).items;
  expect(entry).toMatchObject({
    actor: 'marit',
    address: '127.0.0.1',
    request_id: expect.stringMatching(/^[\w-]{8,40}$/),
    data: { changes: { policy: { before: 'always', after: 'on_demand' }, labels: { before: [], after: ['ops'] } } },
  });
  expect((await call('listHistory', { query: { actor: 'marit', until: before, kind: 'connection_changed' } })).items).toEqual([]);
  await eventually(async () => readFileSync(copy, 'utf8').includes(entry?.id ?? ''));
  const lines = readFileSync(copy, 'utf8')
    .trim()
    .split('\n')
    .map((line) => JSON.parse(line) as { id: string; hash: string; chain: string; sequence: number });
  expect(lines.find((line) => line.id === entry?.id)).toMatchObject({ says: entry?.says, hash: expect.stringMatching(/^[0-9a-f]{64}$/) });
});

test('whatever is changed in the database, the log shows it, and names the first entry that does not fit', async () => {
  expect(await verified()).toMatchObject({ broken: null, unchained: null, checked: expect.any(Number) });
  const database = openDatabase(databaseUrl, 1);
  try {
    const [victim] = await database.select<{ id: Buffer; chain_id: Buffer; sequence: number; says: string }>(
      "SELECT id, chain_id, sequence, says FROM history WHERE kind = 'connection_added' LIMIT 1",
    );
    if (!victim) throw new Error('no entry');
    const [id, chain] = [victim.id, victim.chain_id];
    const spare = await database.select<Record<string, unknown>>('SELECT * FROM history WHERE chain_id = $1', [chain]);
    const [head] = await database.select<Record<string, Buffer | number>>('SELECT head_sequence, head_hash, head_proof FROM history_chains WHERE id = $1', [
      chain,
    ]);
    const ATTACKS: [string, string, unknown[], RegExp][] = [
      ['an edited text', "UPDATE history SET says = 'Nothing happened.' WHERE id = $1", [id], /was changed/],
      ['another person', "UPDATE history SET actor = 'tom' WHERE id = $1", [id], /was changed/],
      ['another time', 'UPDATE history SET at = at + INTERVAL 1 SECOND WHERE id = $1', [id], /was changed/],
      ['an entry removed', 'DELETE FROM history WHERE id = $1', [id], /An entry is missing/],
      ['the last ones removed', 'DELETE FROM history WHERE chain_id = $1 AND sequence >= $2', [chain, victim.sequence], /entries are missing|entry is missing/],
      ['all removed', 'DELETE FROM history WHERE chain_id = $1', [chain], /missing/],
      [
        'the head moved back',
        'UPDATE history_chains SET head_sequence = $2 - 1, head_hash = (SELECT hash FROM history WHERE chain_id = $1 AND sequence = $2 - 1) WHERE id = $1',
        [chain, victim.sequence],
        /head was changed/,
      ],
      [
        'retention pretended',
        'UPDATE history_chains SET base_sequence = $2, base_hash = (SELECT hash FROM history WHERE chain_id = $1 AND sequence = $2) WHERE id = $1',
        [chain, victim.sequence],
        /not by retention/,
      ],
      ['the chain forgotten', 'DELETE FROM history_chains WHERE id = $1', [chain], /not known|was removed/],
      [
        'one put in',
        "INSERT INTO history SELECT UNHEX(REPLACE(UUID(), '-', '')), at, actor, kind, subject, says, data, routine, request_id, address, chain_id, sequence, hash FROM history WHERE id = $1",
        [id],
        /appears twice|was changed/,
      ],
    ];
    for (const [name, sql, bind, why] of ATTACKS) {
      await database.write(sql, bind as never);
      const found = await verified();
      expect([name, found.broken?.why]).toEqual([name, expect.stringMatching(why)]);
      // As it was.
      await database.write('DELETE FROM history WHERE chain_id = $1', [chain]);
      const columns = Object.keys(spare[0] ?? {});
      for (const row of spare)
        await database.write(
          `INSERT INTO history (${columns.join(', ')}) VALUES (${columns.map((_column, at) => `$${at + 1}`).join(', ')})`,
          columns.map((column) => (row[column] instanceof Date ? instantText(row[column].getTime()) : row[column])) as never,
        );
      await database.write(
        'INSERT INTO history_chains (id, routine, started_at, base_sequence, head_sequence, head_hash, head_proof) VALUES ($1, 0, UTC_TIMESTAMP(3), 0, $2, $3, $4) ON DUPLICATE KEY UPDATE base_sequence = 0, base_hash = NULL, head_sequence = $2, head_hash = $3, head_proof = $4',
        [chain, head?.head_sequence ?? 0, head?.head_hash ?? null, head?.head_proof ?? null] as never,
      );
      expect([name, (await verified()).broken]).toEqual([name, null]);
    }
  } finally {
    await database.close();
  }
});

test('rk shows how to read on, and entries past their retention are deleted', async () => {
  await rk(['sign-in', '--url', service.url, '--name', 'marit'], { home: service.folder, input: 'harbour-light-9' });
  const listed = await rk(['activity', 'list', '--limit', '2'], { home: service.folder });
  expect([listed.code, listed.out]).toEqual([0, expect.stringMatching(/More entries: --before [0-9a-f-]{36}/)]);
  const database = openDatabase(databaseUrl, 1);
  try {
    await database.write("UPDATE history SET at = at - INTERVAL 31 DAY WHERE kind = 'renewed'");
    await database.write(
      'UPDATE history h JOIN history_chains c ON c.id = h.chain_id SET h.at = h.at - INTERVAL 500 DAY WHERE c.routine = 0 AND h.sequence <= 3',
    );
    const { history } = await import('../src/service/history/history.ts');
    const { historyStore } = await import('../src/service/store/history.ts');
    const log = { warn: () => {}, error: () => {} } as never;
    const { chainStore } = await import('../src/service/store/history-chains.ts');
    const key = chainKey(Buffer.from(masterKey, 'base64'));
    const past = history({ store: historyStore(database), chains: chainStore(database), key, stream: null, ports: { clock: { now: Date.now }, random, log } });
    const day = 86_400_000;
    expect(await past.forget({ renewalsMs: 30 * day, allMs: 400 * day })).toBeGreaterThanOrEqual(4);
    const left = await database.select<{ kind: string }>('SELECT kind FROM history WHERE at < UTC_TIMESTAMP(3) - INTERVAL 30 DAY');
    expect(left).toEqual([]);
    await past.stop();
    const { broken } = await verified();
    expect([null, expect.stringMatching(/was changed/)]).toContainEqual(broken?.why ?? null); // times were changed for this test
  } finally {
    await database.close();
  }
});
