import { readFileSync } from 'node:fs';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { startStandin } from '../src/standins/main.ts';
import { Browser, playConsent } from '../src/standins/visitor.ts';
import { removeFolder, rk, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually, staysFor } from '../testing/waiting.ts';
import { addConnection, agree, fetchToken, type StandinUnderTest, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** Registering at the provider: its developer console, the ready line, forms and approval, rehearsals, printed codes. */
let [service, call] = [] as unknown as [ServiceUnderTest, ApiClient];
const at = {} as Record<'bosunry' | 'oakum' | 'piermaster' | 'deckhail', StandinUnderTest>;
const there = new Browser();
const show = (provider: string, client: string) => call('showClient', { params: { provider, client } });
const change = async (provider: string, client: string, body: object) =>
  call('changeClient', { params: { provider, client }, body: { revision: (await show(provider, client)).revision, ...body } });
/** Presses a button of a page of a console; the page that comes back. */
async function press(page: string, fields: Record<string, string | string[]>): Promise<string> {
  const form = new URLSearchParams();
  for (const [name, value] of Object.entries(fields)) for (const one of [value].flat()) form.append(name, one);
  const answer = await there.fetch(page, form);
  return answer.location ?? answer.body;
}
const idOn = (page: string): string => page.split('/').at(-1) ?? '';
const seen = (html: string, id: string): string => new RegExp(`id="${id}">([^<]+)<`).exec(html)?.[1] ?? '';
const cli = (...args: string[]) => rk(args, { home: service.folder, environment: { RUSTY_KETTLE_URL: service.url } });

beforeAll(async () => {
  service = await startService({ databaseUrl: await newDatabase(), environment: { RUSTY_KETTLE_APPROVAL_CHECK_SECONDS: '2' } });
  call = await signIn(service);
  for (const name of ['bosunry', 'oakum', 'piermaster', 'deckhail'] as const) {
    at[name] = await startUnderTest(name, 3600);
    await call('addProvider', { body: { document: at[name].definitionText } });
  }
  await cli('sign-in', '--name', 'marit').catch(() => undefined);
  await rk(['sign-in', '--name', 'marit'], { home: service.folder, environment: { RUSTY_KETTLE_URL: service.url }, input: 'harbour-light-9\n' });
});
afterAll(async () => {
  await service.stop();
  for (const standin of Object.values(at)) await standin.stop();
  removeFolder(service.folder);
});

test('Bosunry: from an empty draft to ready, every gap named on the way; what was not saved, listed or opened at the provider is rejected there', async () => {
  const draft = await call('addClient', { body: { provider: 'bosunry', name: 'rosters', title: 'Roster board' } });
  expect(draft).toMatchObject({
    ready: {
      ready: false,
      says: 'Not ready: Missing: the client id, the client secret. Only listed accounts can sign in, and none is entered here.',
    },
  });
  const home = draft.registration_page ?? '';
  const folder = await press(home, { name: 'Saltmarsh Ferries' });
  const app = await press(folder, { name: 'Roster board' });
  const page = `${home}/${idOn(app)}`;
  const secretShown = await press(`${page}/secrets`, { action: 'new', label: 'Rusty Kettle' });
  const secret = seen(secretShown, 'client-secret');
  expect((await there.fetch(`${page}/secrets`)).body).not.toContain(secret); // shown once
  await change('bosunry', 'rosters', { client_id: idOn(app) });
  await call('addSecret', { params: { provider: 'bosunry', client: 'rosters' }, body: { secret } });
  expect(await show('bosunry', 'rosters')).toMatchObject({ client_page: page, missing: [] });

  const scopes = ['rosters:read', 'whoami', 'offline_access'];
  await call('addConnection', {
    body: {
      name: 'rosters',
      provider: 'bosunry',
      client: 'rosters',
      scopes,
      operations: ['list-rosters', 'change-roster'],
      expected_account: 'joss.tarrant@saltmarsh.example',
    },
  });
  const ready = async () => (await call('showConnection', { params: { connection: 'rosters' } })).ready;
  const says = async () => (await ready()).lines.filter((line) => line.verdict !== 'good').map((line) => `${line.what}: ${line.verdict}`);
  expect(await says()).toEqual(['redirect URI: doubt', 'redirect URI: doubt', 'scopes: doubt', 'scopes: missing', 'listed accounts: missing']);

  // At the provider: the address is added only once its host is listed, and counts only once the list is saved.
  const early = await press(`${page}/redirect_uris`, { action: 'add', uri: draft.redirect_uri });
  expect(early).toContain('is not among the listed domains');
  await press(`${page}/domains`, { action: 'add', domain: '127.0.0.1' });
  expect(await press(`${page}/redirect_uris`, { action: 'add', uri: draft.redirect_uri })).toContain('Not saved yet');
  const unsaved = await playConsent((await call('openConnection', { params: { connection: 'rosters' } })).start_url);
  expect(unsaved.body).toContain('Redirect URI mismatch');
  await press(`${page}/redirect_uris`, { action: 'save' });
  await press(`${page}/scopes`, { action: 'save', scope: scopes });
  await press(`${page}/reach`, { action: 'list', account: 'marit.holm@saltmarsh.example' });

  const differs = await call('checkRedirectUri', {
    params: { provider: 'bosunry', client: 'rosters' },
    body: { registered: `https://other.example/x\n${draft.redirect_uri.replace('rosters', 'Rosters')}` },
  });
  expect(differs).toMatchObject({ same: false, shown: expect.stringContaining('Rosters'), says: expect.stringContaining('upper and lower case') });
  await change('bosunry', 'rosters', {
    registered_scopes: ['rosters:reed', 'whoami', 'offline_access'],
    take_as_is: true,
    listed_accounts: ['marit.holm@saltmarsh.example'],
    registering: { domains_there: ['127.0.0.1'] },
  });
  const gaps = (await ready()).lines.filter((line) => line.verdict === 'missing').map((line) => line.says);
  expect(gaps).toEqual([
    expect.stringContaining('upper and lower case at character'),
    'Requested, but not registered at the provider: rosters:read. \u201crosters:read\u201d may be called \u201crosters:reed\u201d at the provider.',
    'The operation change-roster needs rosters:write, which is not requested.',
    'joss.tarrant@saltmarsh.example is not among the listed accounts: marit.holm@saltmarsh.example.',
  ]);
  const checked = await cli('connection', 'check', 'rosters');
  expect([checked.code, checked.out, checked.err]).toEqual([1, expect.stringMatching(/\u2717 missing\s+redirect URI/), expect.stringContaining('Not ready')]);
  const joss = await playConsent((await call('openConnection', { params: { connection: 'rosters' } })).start_url, { account: 'eg-1077' });
  expect(joss.body).toContain('Account not listed');

  await call('checkRedirectUri', { params: { provider: 'bosunry', client: 'rosters' }, body: { registered: draft.redirect_uri } });
  await change('bosunry', 'rosters', { registered_scopes: scopes });
  const { revision } = await call('showConnection', { params: { connection: 'rosters' } });
  await call('changeConnection', {
    params: { connection: 'rosters' },
    body: { revision, operations: ['list-rosters'], expected_account: 'Marit.Holm@saltmarsh.example' },
  });
  expect(await ready()).toMatchObject({ ready: true, says: 'Ready.' });
  expect((await cli('connection', 'check', 'rosters')).code).toBe(0);
  const { outcome, played } = await agree(call, 'rosters');
  expect(outcome).toMatchObject({
    phase: 'done',
    first_call: { status: 403, body: expect.stringContaining('api_not_opened') },
  });
  expect(played.steps.some((step) => step.what.includes('/link'))).toBe(true);
  await press(`${page}/apis`, { action: 'save', api: 'rosters' });
  expect((await agree(call, 'rosters')).outcome).toMatchObject({ account: { label: 'marit.holm@saltmarsh.example' }, first_call: { status: 200 } });
  // While listed, refresh tokens end after three days, whatever happens.
  await at.bosunry.order('skew', { skew_ms: 3 * 86_400_000 + 1000 });
  await call('renewConnection', { params: { connection: 'rosters' } });
  // A worker may have made the renewal; its evidence is written a moment after its outcome.
  const rejected = await eventually(async () => {
    const seen = await call('showConnection', { params: { connection: 'rosters' } });
    return seen.evidence === null ? null : seen;
  });
  expect(rejected).toMatchObject({ cause_key: expect.any(String), evidence: expect.stringContaining('unpublished') });
  await at.bosunry.order('skew', { skew_ms: 0 });
});

test('Oakum: answers given once fill its form, what was sent is kept, and approval is detected automatically, with its dates', async () => {
  const asked = await call('changeAnswers', {
    body: {
      organization: 'Saltmarsh Ferries',
      purpose: 'Crew certificates on the duty board',
      contact: 'apis@saltmarsh.example',
      privacy_page: 'https://saltmarsh.example/privacy',
    },
  });
  expect(asked).toMatchObject({ organization: 'Saltmarsh Ferries', platform: '' });
  const set = await cli('client', 'answers', '--platform', 'Rusty Kettle, on our own server');
  expect([set.code, set.out]).toEqual([0, expect.stringMatching(/purpose\s+Crew certificates[\s\S]*platform\s+Rusty Kettle/)]);

  const draft = await call('addClient', { body: { provider: 'oakum', name: 'crew', title: 'Crew portal' } });
  expect(draft).toMatchObject({ approval: 'not_requested', approval_told: true });
  expect(draft.form.map((one) => one.answer)).toEqual([
    'Saltmarsh Ferries',
    'Crew certificates on the duty board',
    'apis@saltmarsh.example',
    'Rusty Kettle, on our own server',
    'https://saltmarsh.example/privacy',
    '',
  ]);
  // A step whose value is missing shows it, and gives no link with a hole in it.
  const apply = draft.guide.find((step) => step.title === 'Apply for access');
  expect(apply).toMatchObject({ missing: ['client_id'], page: expect.stringContaining('{client_id}') });
  await expect(call('checkApproval', { params: { provider: 'oakum', client: 'crew' } })).rejects.toMatchObject({ problem: { code: 'APPROVAL_NOT_REPORTED' } });

  const home = draft.registration_page ?? '';
  const page = `${home}/${idOn(await press(home, { name: 'Crew portal' }))}`;
  await press(`${page}/redirect_uris`, { action: 'add', uri: draft.redirect_uri });
  await press(`${page}/redirect_uris`, { action: 'save' });
  const secret = seen(await press(`${page}/secrets`, { action: 'new' }), 'client-secret');
  await change('oakum', 'crew', { client_id: idOn(page) });
  await call('addSecret', { params: { provider: 'oakum', client: 'crew' }, body: { secret } });

  const unanswered = await cli('client', 'request', 'oakum/crew', '--form', 'Application for access');
  expect([unanswered.code, unanswered.err]).toEqual([2, expect.stringContaining('How many people')]);
  expect(await press(`${page}/access_request`, { action: 'send', q0: 'Saltmarsh Ferries' })).toContain('Please answer');
  const answers = [...draft.form.map((one) => one.answer).slice(0, 5), '48'];
  expect(await press(`${page}/access_request`, { action: 'send', ...Object.fromEntries(answers.map((answer, n) => [`q${n}`, answer])) })).toContain(
    'is waiting',
  );
  const sent = await cli(
    'client',
    'request',
    'oakum/crew',
    '--form',
    'Application for access',
    '--answer',
    'How many people will link their id?=48',
    '--expected-on',
    '2026-12-01',
  );
  expect(sent.code).toBe(0);
  const kept = await show('oakum', 'crew');
  expect(kept).toMatchObject({ approval: 'requested', state: 'requested', registering: { request_form: 'Application for access', expected_on: '2026-12-01' } });
  expect(kept.requests[0]).toMatchObject({
    form: 'Application for access',
    sent_by: 'marit',
    answers: expect.arrayContaining([{ question: 'How many people will link their id?', answer: '48' }]),
  });
  // Later answers do not change what was sent.
  await call('changeAnswers', { body: { purpose: 'Something else' } });
  expect(JSON.stringify((await show('oakum', 'crew')).requests)).toContain('duty board');

  const until = (approval: string) => eventually(async () => (await show('oakum', 'crew')).approval === approval, 15_000, `approval is ${approval}`);
  await at.oakum.order('approval', { client_id: idOn(page), state: 'info_requested', says: 'Which boats?' });
  await until('info_requested');
  expect((await show('oakum', 'crew')).state).toBe('info_requested');
  expect(await press(`${page}/access_request`, { action: 'answer', answer: 'All three.' })).toContain('is waiting');
  await until('requested');
  const before = at.oakum.store.state.clients[idOn(page)]?.approval.state;
  await at.oakum.order('approval', { client_id: idOn(page), state: 'approved' });
  await until('approved');
  const given = await show('oakum', 'crew');
  expect([before, given.state, given.registering.approved_on]).toEqual(['requested', 'ready', new Date().toISOString().slice(0, 10)]);
  expect(given).toMatchObject({ approval_evidence: expect.stringContaining('invalid_grant'), approval_seen_at: expect.any(String) });
  const { items } = await call('listHistory', { query: { subject: 'client:oakum/crew' } });
  const told = items.filter((one) => one.kind === 'approval_changed').map((one) => [one.actor, one.says]);
  expect(told).toEqual([
    ['service', 'Approval: requested became approved, as the token endpoint shows.'],
    ['service', 'Approval: info requested became requested, as the token endpoint shows.'],
    ['service', 'Approval: requested became info requested, as the token endpoint shows.'],
  ]);
  // Once it is given, nobody asks any more.
  const counted = async () =>
    Object.entries((await at.oakum.counters()).counters)
      .filter(([name]) => name.startsWith('token.'))
      .reduce((sum, [, n]) => sum + n, 0);
  await staysFor(3_000, counted);
  await addConnection(call, 'certificates', ['view.certificates'], 'crew', 'oakum');
  expect((await agree(call, 'certificates')).outcome).toMatchObject({
    phase: 'done',
    account: { id: 'C7731K42', label: 'Marit Holm' },
    refresh_token: true,
    first_call: { status: 200 },
  });
});

test('Piermaster: everything is verified first, then a code is printed, pasted once, and exchanged at once', async () => {
  const draft = await call('addClient', {
    body: { provider: 'piermaster', name: 'directory', title: 'Staff directory', placeholders: { audience: 'pm:dir:staff' } },
  });
  expect(draft.type).toBe('printed_code');
  const home = draft.registration_page ?? '';
  const app = await press(home, { name: 'Staff directory' });
  const page = `${home}/${idOn(app)}`;
  expect((await there.fetch(page)).body).toContain('pm:dir:staff'); // where the audience is read
  await press(`${page}/scopes`, { action: 'save', scope: 'staff.read' });
  const made = await press(`${page}/secrets`, { action: 'new', days: '180' });
  expect(seen(made, 'secret-ends')).toMatch(/^\d{4}-\d\d-\d\d$/);
  await change('piermaster', 'directory', { client_id: idOn(app), registered_scopes: ['staff.read'] });
  await call('addSecret', {
    params: { provider: 'piermaster', client: 'directory' },
    body: { secret: seen(made, 'client-secret'), ends_at: `${seen(made, 'secret-ends')}T00:00:00.000Z` },
  });
  await addConnection(call, 'staff', ['staff.read'], 'directory', 'piermaster');

  const open = () => call('openConnection', { params: { connection: 'staff' } });
  const finished = (id: string) =>
    eventually(async () => {
      const outcome = await call('showConsent', { params: { consent: id } });
      return outcome.finished_at === null ? null : outcome;
    });
  const opened = await open();
  expect(opened).toMatchObject({ start_url: `${service.url}/#/consents/${opened.id}`, ready: { ready: true, says: 'Ready.' } });
  expect(await call('showConsent', { params: { consent: opened.id } })).toMatchObject({
    phase: 'offered',
    wants_code: { page, seconds: 240, called: 'Print a grant code' },
  });
  await call('giveCode', { params: { consent: opened.id }, body: { code: 'XXXX-XXXX-XXXX' } });
  expect(await finished(opened.id)).toMatchObject({ phase: 'failed', problem: { evidence: expect.stringContaining('The code is unknown') } });

  const code = seen(await press(`${page}/printed_code`, { action: 'print' }), 'printed-code');
  const again = await cli('connection', 'open', 'staff').catch(() => null);
  expect(again).not.toBeNull();
  const pasted = await rk(['connection', 'open', 'staff'], { home: service.folder, environment: { RUSTY_KETTLE_URL: service.url }, input: ` ${code}\n` });
  expect([pasted.code, pasted.out, pasted.err.includes('Now print the code')]).toEqual([0, expect.stringMatching(/Refresh token\s+received/), true]);
  expect(await call('showConnection', { params: { connection: 'staff' } })).toMatchObject({
    state: 'working',
    grant_type: 'authorization_code',
    has_refresh_token: true,
  });
  expect(await call('renewConnection', { params: { connection: 'staff' } })).toMatchObject({ renewals: 1, state: 'working' });

  // The same code again, and one that is too old: said, and the connection goes on with what it has.
  await expect(call('giveCode', { params: { consent: (await open()).id }, body: { code } })).rejects.toMatchObject({
    problem: { detail: expect.stringContaining('given here before') },
  });
  const stale = seen(await press(`${page}/printed_code`, { action: 'print' }), 'printed-code');
  await at.piermaster.order('skew', { skew_ms: 241_000 });
  const late = await open();
  await call('giveCode', { params: { consent: late.id }, body: { code: stale } });
  expect(await finished(late.id)).toMatchObject({ phase: 'failed', problem: { diagnosis: { cause: 'code_expired' } } });
  await at.piermaster.order('skew', { skew_ms: 0 });
  expect(await call('showConnection', { params: { connection: 'staff' } })).toMatchObject({ state: 'working' });
  const wrong = await open();
  await call('giveCode', { params: { consent: wrong.id }, body: { code: 'YYYY' } });
  await finished(wrong.id);
  await expect(call('giveCode', { params: { consent: '01912345-0000-7000-8000-000000000000' }, body: { code } })).rejects.toMatchObject({
    problem: { code: 'NOT_FOUND' },
  });
});

test('Deckhail: the API\u2019s address from the token answer; without the role of the service user the token is good and the call rejected', async () => {
  const draft = await call('addClient', { body: { provider: 'deckhail', name: 'deck', title: 'Deck announcer' } });
  const home = draft.registration_page ?? '';
  const page = `${home}/${idOn(await press(home, { name: 'Deck announcer' }))}`;
  await press(`${page}/redirect_uris`, { action: 'add', uri: draft.redirect_uri });
  await press(`${page}/redirect_uris`, { action: 'save' });
  await press(`${page}/service_user`, { action: 'save', name: 'Deck', role: 'Announcer (draft only)' });
  await change('deckhail', 'deck', { client_id: idOn(page) });
  await call('addSecret', {
    params: { provider: 'deckhail', client: 'deck' },
    body: { secret: seen(await press(`${page}/secrets`, { action: 'new' }), 'client-secret') },
  });
  await addConnection(call, 'deck', ['hear', 'offline_access'], 'deck', 'deckhail');
  expect((await agree(call, 'deck')).outcome).toMatchObject({
    refresh_token: true,
    first_call: { status: 403, body: expect.stringContaining('role_missing'), url: expect.stringContaining('deck-2.deckhail') },
  });
  await press(`${page}/service_user`, { action: 'save', name: 'Deck', role: 'Announcer' });
  expect(await call('probeConnection', { params: { connection: 'deck' } })).toMatchObject({ status: 200 });
});

test('a rehearsal of any definition: its client is marked wherever it is shown, works end to end, and the real one stands beside it', async () => {
  const definitionText = readFileSync(new URL('support/saltwire.yaml', import.meta.url), 'utf8').replace(/^registration:.*\n/m, '');
  const standin = await startStandin({ definitionText, port: 0 });
  await call('addProvider', { body: { document: definitionText } });
  const real = await call('addClient', { body: { provider: 'saltwire', name: 'weather' } });
  expect(real).toMatchObject({ rehearsal_port: null, registration_page: null });
  const added = await cli('client', 'add', 'saltwire', 'rehearsal', '--rehearsal', String(standin.port));
  expect([added.code, added.out]).toEqual([0, expect.stringMatching(/Rehearsal\s+at a simulated provider/)]);
  const draft = await show('saltwire', 'rehearsal');
  expect(draft).toMatchObject({ rehearsal_port: standin.port, registration_page: `http://127.0.0.1:${standin.port}/clients` });
  for (const { address } of draft.addresses) expect(new URL(address).port).toBe(String(standin.port));
  const home = draft.registration_page ?? '';
  const page = `${home}/${idOn(await press(home, { name: 'Weather' }))}`;
  await press(`${page}/redirect_uris`, { action: 'add', uri: draft.redirect_uri });
  await press(`${page}/redirect_uris`, { action: 'save' });
  await change('saltwire', 'rehearsal', { client_id: idOn(page) });
  await call('addSecret', {
    params: { provider: 'saltwire', client: 'rehearsal' },
    body: { secret: seen(await press(`${page}/secrets`, { action: 'new' }), 'client-secret') },
  });
  const { definition } = await call('showProvider', { params: { provider: 'saltwire' } });
  await addConnection(
    call,
    'weather',
    definition.scopes.map((scope) => scope.name),
    'rehearsal',
    'saltwire',
  );
  expect((await agree(call, 'weather')).outcome).toMatchObject({ phase: 'done', rehearsal: true });
  expect(await call('showConnection', { params: { connection: 'weather' } })).toMatchObject({ state: 'working', rehearsal: true });
  expect(await call('renewConnection', { params: { connection: 'weather' } })).toMatchObject({ state: 'working' });
  expect((await cli('connection', 'list')).out).toMatch(/saltwire\/rehearsal \(rehearsal\)/);
  const caller = await call('addCaller', { body: { name: 'weather-board', connections: ['weather'] } });
  const { status, body } = await fetchToken(service.url, caller.caller_id, caller.key);
  expect([status, typeof body.access_token]).toEqual([200, 'string']);
  expect((await show('saltwire', 'weather')).addresses.every(({ address }) => address.startsWith('https://'))).toBe(true);
  await standin.stop();
});
