import { readFileSync } from 'node:fs';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { DIALECT_ROWS } from '../scripts/documents/dialect.ts';
import type { ApiClient } from '../src/api/client.ts';
import type { ConsentOutcome } from '../src/api/connections.ts';
import { Dialect } from '../src/core/provider/dialect.ts';
import { registerAtStandin } from '../src/standins/visitor.ts';
import { type MadeCertificate, makeCertificate } from '../testing/certificate.ts';
import { removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addClient, addConnection, agree, fetchToken, type StandinUnderTest, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** Each habit of a provider, from the definition to the stand-in and back, and what a person and a caller see of it. */
const NAMES = ['ledgerfin', 'wharfpost', 'notchboard', 'piermaster', 'eelgrass'] as const;
type Name = (typeof NAMES)[number];
const at = {} as Record<Name, StandinUnderTest>;
const registered = {} as Record<Name, { id: string; secret: string }>;
let [service, call, certificate] = [] as unknown as [ServiceUnderTest, ApiClient, MadeCertificate];
const show = (connection: string) => call('showConnection', { params: { connection } });
const client = (provider: Name, name = 'office') => ({ provider, client: name });

/** Opens a connection whose client asks for itself; how it went. */
async function askForItself(connection: string): Promise<ConsentOutcome> {
  const opened = await call('openConnection', { params: { connection } });
  expect(opened.by_itself).toBe(true);
  return eventually(async () => {
    const seen = await call('showConsent', { params: { consent: opened.id } });
    return seen.phase === 'done' || seen.phase === 'failed' ? seen : null;
  });
}

beforeAll(async () => {
  service = await startService({ databaseUrl: await newDatabase() });
  call = await signIn(service);
  certificate = await makeCertificate('saltmarsh-ledger');
  for (const name of NAMES) {
    at[name] = await startUnderTest(name, 3600, (text) =>
      name === 'notchboard' ? text.replace('  refresh_tokens_most', '  absolute_life_seconds: 8640000\n  refresh_tokens_most') : text,
    );
    await call('addProvider', { body: { document: at[name].definitionText } });
  }
  registered.eelgrass = await addClient(call, at.eelgrass, 'office');
  registered.wharfpost = await addClient(call, at.wharfpost, 'office', { provider: 'wharfpost' });
  registered.notchboard = await addClient(call, at.notchboard, 'office', { provider: 'notchboard' });
  registered.ledgerfin = await addClient(call, at.ledgerfin, 'office', { provider: 'ledgerfin', placeholders: { tenant: 'lf204816' } });
  registered.piermaster = await addClient(call, at.piermaster, 'office', {
    provider: 'piermaster',
    type: 'service_account',
    placeholders: { audience: 'pm:dir:staff' },
  });
});
afterAll(async () => {
  await service.stop();
  for (const standin of Object.values(at)) await standin.stop();
  removeFolder(service.folder);
});

test('every field of the dialect has a stand-in and a test, and docs/DIALECT.md says which', () => {
  expect(DIALECT_ROWS.map((row) => row.field).sort()).toEqual(Object.keys(Dialect.shape).sort());
  for (const file of new Set(DIALECT_ROWS.flatMap((row) => row.test.split(', '))))
    expect(readFileSync(new URL(`../${file}`, import.meta.url), 'utf8')).toContain('test');
});

test('Wharfpost: JSON requests, members at their own places, an account number at the connection that its callers are informed', async () => {
  const body = { provider: 'wharfpost', client: 'office', scopes: ['parcels'] };
  await expect(call('addConnection', { body: { ...body, name: 'parcels' } })).rejects.toMatchObject({
    problem: { places: [{ path: 'placeholders.account' }] },
  });
  await expect(call('addConnection', { body: { ...body, name: 'parcels', placeholders: { account: '4001' } } })).rejects.toMatchObject({
    problem: { places: [{ why: expect.stringContaining('does not look like') }] },
  });
  await call('addConnection', { body: { ...body, name: 'parcels', placeholders: { account: '40017788' } } });
  const outcome = await askForItself('parcels');
  expect(outcome).toMatchObject({
    phase: 'done',
    problem: null,
    access_token_life_seconds: 3600,
    scopes: { granted: ['parcels'] },
    first_call: { status: 200 },
  });
  expect(await show('parcels')).toMatchObject({ state: 'working', grant_type: 'client_credentials', has_refresh_token: false, probe: { state: 'verified' } });
  const caller = await call('addCaller', { body: { name: 'parcel-desk', connections: ['parcels'] } });
  const { body: answer } = await fetchToken(service.url, caller.caller_id, caller.key);
  expect(answer).toMatchObject({ token_type: 'Bearer', placeholders: { account: '40017788' }, base_url: expect.stringContaining('api.wharfpost.localhost') });
  const { items } = await call('listAttempts', { params: { connection: 'parcels' } });
  expect(items[0]?.request).toMatchObject({
    headers: { 'content-type': 'application/json' },
    form: { grant_type: 'client_credentials', client_secret: expect.stringContaining('masked') },
  });
});

test('Wharfpost: an error with status 200 is an error, in words of its own: the client stops; and a call with one proves nothing', async () => {
  const secret = { params: client('wharfpost'), body: { secret: 'of-another-client', at_once: true } };
  await call('addSecret', secret);
  await call('renewConnection', { params: { connection: 'parcels' } });
  expect(await call('showClient', { params: client('wharfpost') })).toMatchObject({
    state: 'stopped',
    cause: expect.stringContaining('HTTP 200, invalid_client'),
  });
  await call('addSecret', { ...secret, body: { secret: registered.wharfpost.secret, at_once: true } });
  await eventually(async () => (await show('parcels')).state === 'working');
  at.wharfpost.store.state.accessTokens = {};
  const answer = await call('probeConnection', { params: { connection: 'parcels' } });
  expect([answer.status, JSON.parse(answer.body).fault.code]).toEqual([200, 'invalid_token']);
  expect(await show('parcels')).toMatchObject({ state: 'degraded', cause_key: 'proof_failed' });
  await call('renewConnection', { params: { connection: 'parcels' } });
  await call('probeConnection', { params: { connection: 'parcels' } });
  expect((await show('parcels')).state).toBe('working');
});

test('Piermaster: an audience from a placeholder, a header of its own for the token, no lifetime named; rejected without', async () => {
  await addConnection(call, 'staff', ['staff.read'], 'office', 'piermaster');
  expect(await askForItself('staff')).toMatchObject({
    phase: 'done',
    access_token_life_seconds: null,
    warnings: [expect.stringContaining('900 seconds are assumed')],
    first_call: { status: 200 },
  });
  const { life, base_url } = await show('staff');
  expect(Date.parse(life?.expires_at ?? '') - Date.parse(life?.issued_at ?? '')).toBe(900_000);
  const caller = await call('addCaller', { body: { name: 'crew-portal', connections: ['staff'] } });
  const { body } = await fetchToken(service.url, caller.caller_id, caller.key);
  expect(body).toMatchObject({ header_name: 'x-pier-token', header_word: '', placeholders: { audience: 'pm:dir:staff' }, base_url });
  const people = await fetch(`${base_url.replace(/\/\/[^:]+/, '//127.0.0.1')}/people`, {
    headers: { 'x-pier-token': String(body.access_token), 'user-agent': 'saltmarsh-directory/1.0' },
  });
  expect([people.status, (await people.json()).people.length]).toEqual([200, 20]);
  await call('addClient', { body: { provider: 'piermaster', type: 'service_account', name: 'elsewhere', placeholders: { audience: 'pm:dir:crew' } } });
  const params = client('piermaster', 'elsewhere');
  await call('changeClient', { params, body: { revision: 1, client_id: registered.piermaster.id } });
  await call('addSecret', { params, body: { secret: registered.piermaster.secret } });
  await addConnection(call, 'wrong-audience', ['staff.read'], 'elsewhere', 'piermaster');
  expect(await askForItself('wrong-audience')).toMatchObject({
    phase: 'done',
    first_call: { status: 401, diagnosis: { cause: 'audience_wrong', verdict: 'token_refused', side: 'client', remedy: expect.stringContaining('audience') } },
  });
});

test('Ledgerfin: by secret it reads; by a signed assertion with its certificate it may post; both through one definition', async () => {
  await addConnection(call, 'books', ['books.read'], 'office', 'ledgerfin');
  expect(await askForItself('books')).toMatchObject({ phase: 'done', first_call: { status: 200, url: expect.stringContaining('/lf204816/v3/accounts') } });
  const draft = await call('addClient', { body: { provider: 'ledgerfin', name: 'posting', placeholders: { tenant: 'lf204816' } } });
  const there = await registerAtStandin(draft.registration_page ?? '', 'Posting', draft.redirect_uri, { certificate: certificate.certificate });
  const params = client('ledgerfin', 'posting');
  const changed = await call('changeClient', {
    params,
    body: { revision: draft.revision, client_id: there.id, method: 'private_key_jwt', registered_scopes: ['books.read', 'books.post'] },
  });
  expect(changed.missing).toEqual(['its certificate or key']);
  const held = await call('addSecret', { params, body: { kind: 'certificate', secret: certificate.pem } });
  expect(held).toMatchObject({
    missing: [],
    privilege: { power: 'write', acts_for_itself: true },
    secrets: [{ kind: 'certificate', key: { type: 'RSA 2048', subject: 'CN=saltmarsh-ledger' } }],
  });
  expect(Date.parse(held.secrets[0]?.ends_at ?? '')).toBeGreaterThan(Date.now() + 300 * 86_400_000);
  await addConnection(call, 'postings', ['books.read', 'books.post'], 'posting', 'ledgerfin');
  expect(await askForItself('postings')).toMatchObject({ phase: 'done', scopes: { granted: ['books.read', 'books.post'] } });
  expect(await call('renewConnection', { params: { connection: 'postings' } })).toMatchObject({ renewals: 1, state: 'working' });
  const post = async (connection: string) => {
    const caller = await call('addCaller', { body: { name: `post-${connection}`, connections: [connection] } });
    const { body } = await fetchToken(service.url, caller.caller_id, caller.key);
    // What is issued is the session's token, with the header and the address at which it is good.
    expect(body).toMatchObject({ header_name: 'x-books-session', header_word: '', base_url: expect.stringContaining('//books.ledgerfin.') });
    const answer = await fetch(`${String(body.base_url).replace(/\/\/[^:]+/, '//127.0.0.1')}/postings`, {
      method: 'POST',
      headers: { [String(body.header_name)]: String(body.access_token), 'accept-language': 'en' },
    });
    return [answer.status, (await answer.json()).error];
  };
  expect(await post('postings')).toEqual([201, undefined]);
  await addConnection(call, 'by-secret', ['books.post'], 'office', 'ledgerfin');
  await askForItself('by-secret');
  expect(await post('by-secret')).toEqual([403, 'certificate_needed']);
});

test('Notchboard: no PKCE, commas, raw Basic, lives in text, who consented and the API\u2019s address from the token answer, a word of its own', async () => {
  const standin = at.notchboard.store.state.clients[registered.notchboard.id];
  if (standin?.secrets[0]) standin.secrets[0].value = 'with+plus%20and:colon';
  await call('addSecret', { params: client('notchboard'), body: { secret: 'with+plus%20and:colon', at_once: true } });
  await addConnection(call, 'forum-1', ['read', 'post', 'keep'], 'office', 'notchboard');
  const { outcome, played } = await agree(call, 'forum-1');
  expect(played.steps[2]).toMatchObject({
    what: `GET http://notchboard.localhost:${at.notchboard.port}/connect`,
    status: 200,
  });
  expect(outcome).toMatchObject({
    phase: 'done',
    account: { id: 'eg-1042', label: 'marit.holm@saltmarsh.example' },
    scopes: { granted: ['read', 'post', 'keep'], missing: [] },
    access_token_life_seconds: 3600,
    refresh_token: true,
    first_call: { status: 200, url: expect.stringContaining('api-2.notchboard.localhost') },
  });
  const shown = await show('forum-1');
  expect([shown.api_base_url, shown.state]).toEqual([expect.stringContaining('api-2.notchboard.localhost'), 'working']);
  expect(Math.round((Date.parse(shown.reconnect_by ?? '') - Date.now()) / 86_400_000)).toBe(100);
  const start = await call('openConnection', { params: { connection: 'forum-1' } });
  const address = (await fetch(start.start_url, { method: 'POST', redirect: 'manual' })).headers.get('location') ?? '';
  expect(Object.fromEntries(new URL(address).searchParams)).toMatchObject({ display: 'board', hold: 'fast', scope: 'read,post,keep' });
  expect(address).not.toContain('code_challenge');
});

test('Notchboard: a renewal ends the token issued before, a second use is only rejected, and nobody gets the dead one', async () => {
  const caller = await call('addCaller', { body: { name: 'deck-announcer', connections: ['forum-1'] } });
  const token = async () => (await fetchToken(service.url, caller.caller_id, caller.key)).body;
  const before = await token();
  expect(before).toMatchObject({ header_word: 'Notch', base_url: expect.stringContaining('api-2') });
  await call('renewConnection', { params: { connection: 'forum-1' } });
  const threads = (access: unknown) =>
    fetch(`http://127.0.0.1:${at.notchboard.port}/2/threads`, { headers: { authorization: `Notch ${access}` } }).then((answer) => answer.status);
  expect(await threads(before.access_token)).toBe(401);
  expect(await threads((await token()).access_token)).toBe(200);
});

test('Notchboard: only so many refresh tokens: the fourth consent is asked about first, names what will end, and pushes it out', async () => {
  for (const name of ['forum-2', 'forum-3', 'forum-4']) await addConnection(call, name, ['read', 'keep'], 'office', 'notchboard');
  for (const name of ['forum-2', 'forum-3']) await agree(call, name);
  await expect(call('openConnection', { params: { connection: 'forum-4' } })).rejects.toMatchObject({
    problem: { code: 'WOULD_END', detail: expect.stringMatching(/keeps 3 refresh tokens .* the oldest ends \(forum-1\)/) },
  });
  const { outcome } = await agree(call, 'forum-4', {}, undefined, { end_oldest: true });
  expect(outcome).toMatchObject({ phase: 'done' });
  await call('renewConnection', { params: { connection: 'forum-1' } }).catch(() => null);
  await eventually(async () => (await show('forum-1')).state === 'action_needed');
  expect((await show('forum-2')).state).toBe('working');
});

test('revocation: RFC 7009 at Eelgrass, a DELETE with a query at Notchboard; dead there, discarded here, name and history kept', async () => {
  await addConnection(call, 'sailings', ['tables.read', 'offline_access'], 'office', 'eelgrass');
  await agree(call, 'sailings');
  for (const [name, standin] of [
    ['sailings', at.eelgrass],
    ['forum-2', at.notchboard],
  ] as const) {
    expect(await call('revokeConnection', { params: { connection: name } })).toEqual({ revoked_there: true, says: 'The provider revoked it.' });
    expect((await standin.counters()).counters['revoke.ok']).toBe(1);
    expect(await show(name)).toMatchObject({ state: 'revoked', remedy: expect.stringContaining('Reconnect') });
  }
  expect(await call('revokeConnection', { params: { connection: 'parcels' } })).toMatchObject({
    revoked_there: null,
    says: expect.stringContaining('offers no revocation'),
  });
});
