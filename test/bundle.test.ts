import { mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import fc from 'fast-check';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { type ApiClient, ProblemError } from '../src/api/client.ts';
import { newFolder, PASSWORD, removeFolder, rk, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { addEelgrass, agree, fetchToken, type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** A set-up as files: out of one installation, into another, and back the same. */
const LONG = 180_000;
type Call = ApiClient & { token: string };
let [standin, from, to] = [] as unknown as [StandinUnderTest, ServiceUnderTest, ServiceUnderTest];
let [call, there] = [] as unknown as [Call, Call];
let secret = '';
const OUTPUT = newFolder();
const start = async () => startService({ databaseUrl: await newDatabase(), environment: { RUSTY_KETTLE_OUTPUT_FOLDER: OUTPUT } });
beforeAll(async () => {
  standin = await startEelgrass(3_600);
  [from, to] = await Promise.all([start(), start()]);
  [call, there] = [await signIn(from), await signIn(to)];
  ({ secret } = await addEelgrass(call, standin));
  const of = { provider: 'eelgrass', client: 'timetable' };
  await call('addConnection', {
    body: { ...of, name: 'sailings', scopes: ['tables.read', 'offline_access'], labels: ['team=deck'], operations: ['list-tables'] },
  });
  await call('addConnection', { body: { ...of, name: 'crew', scopes: ['tables.read', 'offline_access'], shared: true } });
  await call('saveCall', {
    params: { connection: 'sailings' },
    body: {
      name: 'all-tables',
      says: 'costs $5 a call',
      call: {
        method: 'GET',
        path: '/tables?api_key=canary-in-path',
        query: [{ name: 'limit', value: '50' }],
        headers: [
          { name: 'x-api-token', value: 'canary-in-header' },
          { name: 'x-pin', value: 'canary-pin' },
        ],
        body: '{"password":"canary-in-body"}',
      },
      parameters: [{ name: 'api_key', says: '', value: 'canary-fixed' }],
    },
  });
  await agree(call, 'sailings');
  await call('addCaller', { body: { name: 'board', title: 'Timetable board', connections: ['sailings'] } });
  await call('permitCaller', { params: { caller: 'board' }, body: { label: 'team=deck', use: 'relay', methods: ['GET'], paths: ['/v2/**'] } });
  await call('addJob', {
    body: {
      name: 'nightly',
      connection: 'sailings',
      call: { method: 'GET', path: '/tables', query: [], headers: [], body: null },
      schedule: { kind: 'cron', expression: '0 6 * * *', zone: 'Europe/Oslo' },
      deliver: [
        { kind: 'file', name: 'nightly.csv', format: 'csv', gzip: false },
        { kind: 'post', url: 'https://hooks.example.test/in/canary-0123456789abcdef0123', format: 'json' },
      ],
    } as never,
  });
}, LONG);
afterAll(async () => {
  await from?.stop();
  await to?.stop();
  await standin?.stop();
  for (const one of [from, to]) if (one) removeFolder(one.folder);
  removeFolder(OUTPUT);
});
const filesOf = (of: Call) => of('exportBundle').then((one) => one.files);
const textsOf = async (of: Call) => Object.fromEntries((await filesOf(of)).map((one) => [one.path, one.text]));
const problem = async (work: () => Promise<unknown>) => {
  try {
    await work();
    return null;
  } catch (error) {
    if (error instanceof ProblemError) return error.problem;
    throw error;
  }
};

test('the files are readable, in a stable order, and hold no secret', async () => {
  const files = await filesOf(call);
  expect(files.map((one) => one.path)).toEqual([
    'rusty-kettle.yaml',
    'providers/eelgrass.yaml',
    'clients/eelgrass.timetable.yaml',
    'connections/crew.yaml',
    'connections/sailings.yaml',
    'callers/board.yaml',
    'jobs/nightly.yaml',
  ]);
  expect(await filesOf(call)).toEqual(files);
  const all = JSON.stringify(files);
  for (const hidden of [secret, 'canary-in-path', 'canary-in-header', 'canary-pin', 'canary-in-body', 'canary-fixed', 'canary-0123456789'])
    expect([hidden, all.includes(hidden)]).toEqual([hidden, false]);
  const job = files.at(-1)?.text ?? '';
  // biome-ignore lint/suspicious/noTemplateCurlyInString: a variable of a bundle
  expect(job).toContain('url: ${SECRET_JOB_NIGHTLY_SETTINGS_DELIVER_1_URL}');
  expect(job).not.toMatch(/[0-9a-f]{8}-[0-9a-f]{4}-/); // no IDs
  expect(files[4]?.text).toContain('costs $$5 a call');
});

test('into another installation: shown first, all or nothing, a second comparison is empty, and its export is the same', async () => {
  const files = await filesOf(call);
  const compared = await there('compareBundle', { body: { files } });
  expect(compared.items.map((one) => one.state)).toEqual(['new', 'new', 'new', 'new', 'new', 'new']);
  expect(compared.problems.map((one) => one.path)).toEqual(['connections/sailings.yaml', 'jobs/nightly.yaml']); // secrets that nobody has there
  expect((await problem(() => there('importBundle', { body: { files } })))?.code).toBe('INPUT_INVALID');
  expect((await there('listProviders')).items).toEqual([]);
  const names = [...new Set([...JSON.stringify(files).matchAll(/\$\{(SECRET_\w+)\}/g)].map((match) => match[1] ?? ''))].filter(
    (name) => name !== 'SECRET_NAME',
  ); // the one of the head is an example
  expect(names.length).toBe(6);
  const variables = Object.fromEntries(names.map((name) => [name, name.endsWith('_URL') ? 'https://hooks.example.test/in/T0/B1' : 'canary-other-secret']));
  const shown = await there('compareBundle', { body: { files, variables } });
  expect(shown.problems).toEqual([]);
  expect((await problem(() => there('importBundle', { body: { files, variables, digest: 'another' } })))?.code).toBe('REVISION_CONFLICT');
  const done = await there('importBundle', { body: { files, variables, digest: shown.digest } });
  expect(done.reconnect).toEqual(['crew', 'sailings']);
  expect(new Set((await there('compareBundle', { body: { files, variables } })).items.map((one) => one.state))).toEqual(new Set(['same']));
  expect(await textsOf(there)).toEqual(await textsOf(call));
  expect((await there('listHistory', { query: { kind: 'bundle_imported' } })).items.length).toBe(1);
  // Nobody was given its first key: none works.
  expect((await there('showCaller', { params: { caller: 'board' } })).keys.every((key) => key.retired_at !== null)).toBe(true);
});

test('a comparison shows no secret of either side: it goes into logs', async () => {
  const files = (await filesOf(call)).map((one) => ({
    ...one,
    text: one.text
      .replaceAll(/\$\{SECRET_\w+_URL\}/g, 'https://hooks.example.test/in/canary-written')
      .replaceAll(/\$\{SECRET_\w+\}/g, 'canary-written-by-hand'),
  }));
  const compared = await call('compareBundle', { body: { files } });
  const changed = compared.items.filter((one) => one.state === 'changed' || one.state === 'conflict').flatMap((one) => one.fields);
  expect(changed.map((one) => one.path).sort()).toEqual([
    'calls.all-tables.call.body',
    'calls.all-tables.call.headers.0.value',
    'calls.all-tables.call.headers.1.value',
    'calls.all-tables.call.path',
    'calls.all-tables.parameters.0.value',
    'settings.deliver.1.url',
  ]);
  expect(JSON.stringify(changed)).not.toMatch(/canary/);
});

test('a permission for one person stays where it is, and keeps no bundle from being compared or imported', async () => {
  const { handle } = await call('invitePerson', { params: { connection: 'crew' }, body: { person: 'ane', purpose: 'x' } });
  await call('permitCaller', { params: { caller: 'board' }, body: { connection: handle, use: 'relay' } });
  const files = await filesOf(call);
  expect(JSON.stringify(files)).not.toContain(handle);
  const compared = await call('compareBundle', { body: { files } });
  expect([compared.problems, compared.counts.changed]).toEqual([[], 0]);
  await call('importBundle', { body: { files } });
  const shown = await call('showCaller', { params: { caller: 'board' } });
  const permission = shown.permissions.find((one) => one.connection === handle);
  expect(permission).toBeDefined();
  await call('withdrawPermission', { params: { caller: 'board', permission: permission?.id ?? '' } });
});

test('secrets go only as JWE: a client works elsewhere, and tools keep their keys', async () => {
  const caller = await call('addKey', { params: { caller: 'board' }, body: { label: 'moved' } });
  const { jwe } = await call('exportBundleSecrets', { body: { passphrase: 'a passphrase of some length' } });
  expect(jwe).not.toContain(secret);
  expect((await problem(() => there('importBundleSecrets', { body: { jwe, passphrase: 'another passphrase' } })))?.code).toBe('BACKUP_UNREADABLE');
  const done = await there('importBundleSecrets', { body: { jwe, passphrase: 'a passphrase of some length' } });
  expect(done).toEqual({ added: ['client eelgrass/timetable', 'caller board'], present: [], missing: [] });
  expect((await there('importBundleSecrets', { body: { jwe, passphrase: 'a passphrase of some length' } })).present.length).toBe(2);
  const answer = await fetchToken(to.url, caller.caller_id, caller.key, `${to.url}/connections/sailings`);
  expect([answer.status, answer.body.error]).toEqual([400, 'invalid_grant']); // known, permitted, and not connected here yet
});

test('an edit by hand since the import is a conflict, field by field; what left the bundle is removed only on demand', async () => {
  const files = await filesOf(there);
  const { revision } = await there('showConnection', { params: { connection: 'sailings' } });
  await there('changeConnection', { params: { connection: 'sailings' }, body: { revision, labels: ['team=deck', 'edited'] } });
  const compared = await there('compareBundle', { body: { files } });
  const [one] = compared.items.filter((item) => item.state !== 'same');
  expect(one).toMatchObject({
    kind: 'connection',
    name: 'sailings',
    state: 'conflict',
    fields: [{ path: 'labels', here: ['edited', 'team=deck'], bundle: ['team=deck'] }],
  });
  expect((await problem(() => there('importBundle', { body: { files } })))?.code).toBe('REVISION_CONFLICT');
  await there('importBundle', { body: { files, overwrite: true } });
  const smaller = files.filter((file) => file.path !== 'jobs/nightly.yaml');
  expect((await there('compareBundle', { body: { files: smaller } })).counts.removed).toBe(1);
  await there('importBundle', { body: { files: smaller } });
  expect((await there('listJobs')).items.length).toBe(1);
  await there('importBundle', { body: { files: smaller, remove: true } });
  expect((await there('listJobs')).items.length).toBe(0);
});

test.each<[string, (files: { path: string; text: string }[]) => { path: string; text: string }[], RegExp]>([
  ['an unknown member', (files) => [...files, { path: 'callers/x.yaml', text: 'name: x\nsecret: y\n' }], /secret: Unrecognized|unrecognized/i],
  ['an unknown folder', (files) => [...files, { path: 'things/x.yaml', text: 'name: x\n' }], /Not a member of a bundle/],
  [
    'a missing reference',
    (files) => [...files, { path: 'connections/x.yaml', text: 'name: x\nprovider: eelgrass\nclient: nobody\nscopes: []\n' }],
    /neither in the bundle nor here/,
  ],
  ['two of one name', (files) => [...files, { path: 'callers/again.yaml', text: 'name: board\n' }], /has the same name/],
  ['a variable without a value', (files) => [...files, { path: 'callers/x.yaml', text: 'name: x\ntitle: $' + '{WHO}\n' }], /WHO has no value/],
  ['no YAML', (files) => [...files, { path: 'callers/x.yaml', text: '{{{' }], /neither YAML nor JSON/],
  [
    'a format of later',
    (files) => files.map((one) => (one.path === 'rusty-kettle.yaml' ? { ...one, text: 'format: rusty-kettle-bundle/9\n' } : one)),
    /rusty-kettle-bundle\/1/,
  ],
  [
    'what cannot change',
    (files) => files.map((one) => (one.path === 'connections/crew.yaml' ? { ...one, text: one.text.replace('shared: true', 'shared: false') } : one)),
    /shared cannot be changed/,
  ],
])('%s is named with its file, and nothing is imported', async (_name, change, why) => {
  const before = await textsOf(there);
  const files = change(await filesOf(there));
  const compared = await there('compareBundle', { body: { files } });
  expect(compared.problems.map((one) => one.why).join('\n')).toMatch(why);
  expect((await problem(() => there('importBundle', { body: { files } })))?.places?.map((one) => one.why).join('\n')).toMatch(why);
  expect(await textsOf(there)).toEqual(before);
});

test('what a later object cannot be, undoes the earlier ones too', async () => {
  const before = await textsOf(there);
  const files = [
    ...(await filesOf(there)),
    { path: 'callers/aaa.yaml', text: 'name: aaa\n' },
    { path: 'jobs/zzz.yaml', text: 'name: zzz\nconnection: sailings\nsettings:\n  saved: no-such-call\n' },
  ];
  const found = await problem(() => there('importBundle', { body: { files } }));
  expect(found?.detail).toContain('jobs/zzz.yaml');
  expect(await textsOf(there)).toEqual(before);
  expect((await there('listHistory', { query: { subject: 'caller:aaa' } })).items).toEqual([]);
});

test(
  'random set-ups: exported, imported elsewhere, exported again, the same',
  async () => {
    const word = fc.stringMatching(/^[a-z][a-z0-9-]{0,12}$/);
    const setUp = fc.record({
      connections: fc.uniqueArray(
        fc.record({
          name: word,
          labels: fc.uniqueArray(word, { maxLength: 3 }),
          policy: fc.constantFrom('always', 'when_used', 'on_demand'),
          account: fc.option(
            fc
              .string({ minLength: 1, maxLength: 30 })
              .map((text) => text.trim())
              .filter((text) => text !== ''),
          ),
          scopes: fc.uniqueArray(fc.constantFrom('tables.read', 'calendars.read', 'profile', 'offline_access')),
        }),
        { selector: (one) => one.name, minLength: 1, maxLength: 5 },
      ),
      callers: fc.uniqueArray(fc.record({ name: word, title: fc.string({ maxLength: 40 }), share: fc.option(fc.integer({ min: 1, max: 100 })) }), {
        selector: (one) => one.name,
        maxLength: 4,
      }),
    });
    await fc.assert(
      fc.asyncProperty(setUp, async ({ connections, callers }) => {
        const base = (await filesOf(call)).filter((one) => /^(rusty|providers|clients)/.test(one.path));
        const files = [
          ...base,
          ...connections.map((one) => ({
            path: `connections/${one.name}.yaml`,
            text: JSON.stringify({
              name: one.name,
              provider: 'eelgrass',
              client: 'timetable',
              scopes: one.scopes,
              labels: one.labels,
              policy: one.policy,
              expected_account: one.account?.replaceAll('$', '$$$$') ?? null,
            }),
          })),
          ...callers.map((one) => ({
            path: `callers/${one.name}.yaml`,
            text: JSON.stringify({
              name: one.name,
              title: one.title.replaceAll('$', '$$$$'),
              permissions: [{ connection: connections[0]?.name, share: one.share }],
            }),
          })),
        ];
        await there('importBundle', { body: { files, overwrite: true, remove: true } });
        const exported = await filesOf(there);
        expect(new Set((await there('compareBundle', { body: { files } })).items.filter((one) => one.state !== 'only_here').map((one) => one.state))).toEqual(
          new Set(['same']),
        );
        const again = await there('compareBundle', { body: { files: exported } });
        expect([again.problems, again.items.filter((one) => one.state !== 'same')]).toEqual([[], []]);
        await there('importBundle', { body: { files: exported, overwrite: true, remove: true } });
        expect(await filesOf(there)).toEqual(exported);
      }),
      { numRuns: 8 },
    );
  },
  LONG,
);

test(
  'a folder by rk: variables of an environment stay, a difference fails a check, and what is gone is removed',
  async () => {
    const [home, folder] = [newFolder(), join(newFolder(), 'set-up')];
    const run = (...args: string[]) => rk(['--url', from.url, 'bundle', ...args], { home });
    await rk(['sign-in', '--url', from.url, '--name', 'marit'], { home, input: PASSWORD });
    expect((await run('export', folder)).out).toContain('6 objects');
    expect((await run('compare', folder, '--check')).code).toBe(0);
    const client = join(folder, 'clients', 'eelgrass.timetable.yaml');
    const id = /client_id: (.*)/.exec(readFileSync(client, 'utf8'))?.[1] ?? '';
    // biome-ignore lint/suspicious/noTemplateCurlyInString: a variable of a bundle
    writeFileSync(client, readFileSync(client, 'utf8').replace(id, '${CLIENT_ID}'));
    writeFileSync(join(home, 'live.yaml'), `CLIENT_ID: ${id}\n`);
    const unfilled = await run('compare', folder);
    expect([unfilled.code, unfilled.out, unfilled.err]).toEqual([1, expect.stringContaining('CLIENT_ID has no value'), expect.stringContaining('1 problem.')]);
    expect((await run('compare', folder, '--check', '--variables', join(home, 'live.yaml'))).code).toBe(0);
    await call('addCaller', { body: { name: 'later', connections: [] } });
    await run('export', folder, '--variables', join(home, 'live.yaml'));
    // biome-ignore lint/suspicious/noTemplateCurlyInString: a variable of a bundle
    expect(readFileSync(client, 'utf8')).toContain('client_id: ${CLIENT_ID}');
    expect(readdirSync(join(folder, 'callers'))).toEqual(['board.yaml', 'later.yaml']);
    await call('removeCaller', { params: { caller: 'later' } });
    const drift = await run('compare', folder, '--check', '--variables', join(home, 'live.yaml'));
    expect([drift.code, drift.out, drift.err]).toEqual([1, expect.stringMatching(/caller later\s+new/), expect.stringContaining('differ')]);
    expect((await run('import', folder, '--yes', '--variables', join(home, 'live.yaml'))).out).toContain('Imported 1 object.');
    mkdirSync(join(home, 'other'));
    writeFileSync(join(home, 'other', 'x'), '');
    expect((await run('export', join(home, 'other'))).err).toContain('has other files');
    rmSync(home, { recursive: true });
  },
  LONG,
);
