import { readFileSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { playConsent, registerAtStandin } from '../src/standins/visitor.ts';
import { newFolder, PASSWORD, removeFolder, rk as run, type ServiceUnderTest, startService } from '../testing/service.ts';
import { type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

const home = newFolder();
let [service, standin]: [ServiceUnderTest, StandinUnderTest] = [] as never;
const rk = (args: string[], input = '', environment = {}) => run(['--url', service.url, ...args], { home, input, environment });
const json = async <T>(args: string[]): Promise<T> => JSON.parse((await rk(['--output', 'json', ...args])).out) as T;

beforeAll(async () => {
  standin = await startEelgrass(600);
  service = await startService({ databaseUrl: await newDatabase() });
  writeFileSync(join(home, 'eelgrass.yaml'), standin.definitionText);
});
afterAll(async () => {
  await service?.stop();
  await standin?.stop();
  removeFolder(home);
});

test.each([[], ['connection'], ['connection', 'open']])('rk %s --help', async (...path) => {
  const { code, out } = await run([...path, '--help'], { home });
  expect([code, out]).toEqual([0, expect.stringMatching(/^Usage: rk .*\n\n\S/)]);
});

test('the story by rk alone, to a token and an answer of the API', async () => {
  expect((await rk(['status'])).code).toBe(3); // nobody is signed in
  expect((await rk(['operator', 'first', '--name', 'marit', '--link', join(service.folder, 'first-operator.link')], PASSWORD)).code).toBe(0);
  expect((await rk(['sign-in', '--name', 'marit'], 'wrong-password')).code).toBe(3);
  expect((await rk(['sign-in', '--name', 'marit'], PASSWORD)).out).toContain('Signed in');
  expect(statSync(join(home, 'rusty-kettle', 'sign-in.json')).mode & 0o077).toBe(0);

  expect((await rk(['connection', 'list'])).out).toContain('No connections yet');
  expect((await rk(['provider', 'add', join(home, 'eelgrass.yaml')])).out).toContain('Eelgrass');
  const draft = await json<{ redirect_uri: string }>(['client', 'add', 'eelgrass', 'timetable']);
  const { id, secret } = await registerAtStandin(standin.origin, 'By hand', draft.redirect_uri);
  expect((await rk(['client', 'change', 'eelgrass/timetable', '--client-id', id])).out).toContain(id);
  const entered = await rk(['client', 'secret', 'add', 'eelgrass/timetable'], `${secret}\n`);
  expect(entered.out).toContain('ready, not verified');
  expect(entered.out + entered.err).not.toContain(secret);
  expect((await rk(['connection', 'add', 'sailings', '--client', 'eelgrass/timetable'])).out).toContain('rk connection open sailings');
  const opened = await json<{ start_url: string }>(['connection', 'open', 'sailings', '--no-wait']);
  await playConsent(opened.start_url);
  const listed = await rk(['connection', 'list']);
  expect(listed.out).toMatch(/sailings +✓ working +eelgrass\/timetable +marit\.holm@saltmarsh\.example/);

  const made = await rk(['caller', 'add', 'board', '--connection', 'sailings']);
  const [, callerId = '', key = ''] = /(rkc_\S+)[\s\S]*(rkk_\S+)/.exec(made.out) ?? [];
  const token = await rk(['token', 'sailings'], '', { RUSTY_KETTLE_CALLER_ID: callerId, RUSTY_KETTLE_CALLER_KEY: key });
  expect(token).toMatchObject({ code: 0, err: '' });
  const answer = await fetch(`http://127.0.0.1:${standin.port}/v1/tables`, { headers: { authorization: `Bearer ${token.out.trim()}` } });
  expect((await rk(['call', 'sailings', 'GET', '/tables'])).out).toContain(
    JSON.stringify(((await answer.json()) as { tables: unknown[] }).tables[0], null, 2)
      .split('\n')[1]
      ?.trim(),
  );
  expect((await rk(['caller', 'show', 'board'])).out).not.toContain(key);
  expect((await rk(['status'])).out).toContain('1 working');
  expect((await rk(['activity', 'list', '--connection', 'sailings'])).out).toContain('consented to 4 scopes');
});

test.each([
  { args: ['connection', 'show', 'nothing'], code: 4, says: 'List what exists' },
  { args: ['provider', 'add', 'DEFINITION'], code: 5, says: 'Choose another name' },
  { args: ['client', 'remove', 'eelgrass/timetable', '--yes'], code: 5, says: 'Remove its connections first' },
  { args: ['client', 'remove', 'eelgrass/timetable'], code: 2, says: '--yes' },
  { args: ['connection', 'add', 'x', '--client', 'eelgrass/timetable', '--scope', 'tables.raed'], code: 1, says: 'Did you mean' },
  { args: ['connection', 'add', 'x', '--client', 'eelgrass'], code: 2, says: 'PROVIDER/NAME' },
  { args: ['call', 'sailings', 'FETCH', '/tables'], code: 2, says: 'Methods: GET' },
  { args: ['call', 'sailings', 'POST', '/tables'], code: 2, says: 'LIVE' },
  { args: ['call', 'sailings', 'GET', '/nowhere'], code: 1, says: '404' },
  { args: ['status', '--output', 'xml'], code: 2, says: 'table, json, yaml' },
  { args: ['conection', 'list'], code: 2, says: 'unknown command' },
  { args: ['token', 'sailings'], code: 2, says: 'RUSTY_KETTLE_CALLER_ID' },
])('rk $args ends with $code and says what to do', async ({ args, code, says }) => {
  const done = await rk(args.map((arg) => arg.replace('DEFINITION', join(home, 'eelgrass.yaml'))));
  expect([done.code, done.out]).toEqual([code, code === 1 && args[0] === 'call' ? expect.any(String) : '']);
  expect(done.err).toContain(says);
  expect(done.err).not.toContain('\u001b['); // NO_COLOR
});

test('all pages of a call, and a job, by rk alone: records on standard output, progress and evidence on standard error', async () => {
  const pages = await rk(['call', 'sailings', 'GET', '/tables/sailings/rows', '--all-pages', '--columns', 'id,boat=Ferry']);
  expect([pages.code, pages.out.split('\r\n').length, pages.out.split('\r\n')[0]]).toEqual([0, 86, 'id,Ferry']);
  expect(pages.err).toContain('84 of 84 records in 2 calls');
  const file = join(home, 'rows.ndjson');
  const guessed = ['call', 'sailings', 'GET', '/tables', '--all-pages', '--paging', '{style: none, items: /tables}', '--format', 'ndjson', '--to', file];
  const toFile = await rk(guessed);
  expect([toFile.code, toFile.out, readFileSync(file, 'utf8').trim().split('\n').length]).toEqual([0, '', 3]);
  expect(toFile.err).toContain('cannot tell');

  const added = await rk([
    'job',
    'add',
    'rows',
    '--connection',
    'sailings',
    '--path',
    '/tables/sailings/rows',
    '--cron',
    '0 6 * * 1-5',
    '--zone',
    'Europe/Oslo',
  ]);
  expect([added.code, added.out]).toEqual([0, expect.stringContaining('calls a run')]);
  expect((await rk(['job', 'change', 'rows', '--every', '30', '--columns', 'id', '--personal', 'boat=drop', '--title', 'All rows'])).out).toContain(
    'every 30 minutes',
  );
  const ran = await rk(['job', 'run', 'rows']);
  expect([ran.code, ran.out]).toEqual([0, expect.stringMatching(/84 of 84[\s\S]*complete/)]);
  expect((await json<{ items: object[] }>(['job', 'runs', 'rows'])).items).toMatchObject([{ number: 1, state: 'done', records: 84 }]);
  expect((await rk(['job', 'list'])).out).toMatch(/rows\s+sailings\s+every 30 minutes/);
  expect((await rk(['job', 'get', 'rows'])).out.split('\r\n').slice(0, 2)).toEqual(['id', 's-001']);
  const refused = await rk(['connection', 'remove', 'sailings', '--yes']);
  expect([refused.code, refused.err]).toEqual([5, expect.stringContaining('rows')]);
  for (const [args, code, says] of [
    [['job', 'add', 'x', '--connection', 'sailings', '--path', '/tables', '--cron', 'nonsense'], 1, 'five fields'],
    [['job', 'add', 'x', '--connection', 'sailings', '--path', '/a', '--every', '5', '--cron', '0 6 * * *'], 2, 'Choose --every or --cron'],
    [['job', 'show', 'nope'], 4, 'Job "nope" not found'],
    [['job', 'cancel', 'rows'], 5, 'The run has ended'],
    [['job', 'get', 'nope'], 4, 'not found'],
    [['call', 'sailings', 'GET', '/nothing', '--all-pages', '--paging', '{style: none}'], 1, 'The run failed'],
  ] as const) {
    const done = await rk([...args]);
    expect([args.join(' '), done.code, done.err]).toEqual([args.join(' '), code, expect.stringContaining(says)]);
  }
  expect((await rk(['job', 'remove', 'rows', '--yes'])).out).toContain('Removed rows');
});

test('a draft is opened only when it is complete, and nothing is destroyed that others use', async () => {
  await rk(['client', 'add', 'eelgrass', 'empty']);
  await rk(['connection', 'add', 'later', '--client', 'eelgrass/empty']);
  const done = await rk(['connection', 'open', 'later']);
  expect([done.code, done.err]).toEqual([5, expect.stringContaining('Missing: the client id and the client secret')]);
  const [key] = (await json<{ keys: { id: string }[] }>(['caller', 'show', 'board'])).keys;
  expect((await rk(['caller', 'key', 'retire', 'board', key?.id ?? '', '--yes'])).out).toContain('retired');
  for (const args of [
    ['connection', 'remove', 'sailings'],
    ['connection', 'remove', 'later'],
    ['client', 'remove', 'eelgrass/timetable'],
    ['client', 'remove', 'eelgrass/empty'],
    ['provider', 'remove', 'eelgrass'],
    ['caller', 'remove', 'board'],
  ])
    expect((await rk([...args, '--yes'])).code, args.join(' ')).toBe(0);
  expect((await rk(['sign-out'])).code).toBe(0);
  expect((await rk(['status'])).code).toBe(3);
});

test('the settings that the documentation lists are the settings there are', () => {
  const named = (path: string) => new Set(readFileSync(new URL(path, import.meta.url), 'utf8').match(/RUSTY_KETTLE_[A-Z_]+/g));
  const documented = named('../docs/SETTINGS.md');
  for (const name of named('../src/service/settings.ts')) expect(documented, name).toContain(name);
});
