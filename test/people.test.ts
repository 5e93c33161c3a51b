import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import fc from 'fast-check';
import { Webhook } from 'standardwebhooks';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { personKeyProblem, personSegment } from '../src/core/people/person-key.ts';
import { openDatabase } from '../src/service/store/database.ts';
import { Browser, playAuthorization, playDevice } from '../src/standins/visitor.ts';
import { newMasterKey, removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addClient, fetchToken, type StandinUnderTest, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** People who connect their own accounts, through HTTP as their browsers and their application do. */
const LONG = 60_000;
type Account = { account: string; password: string };
const MARIT: Account = { account: 'eg-1042', password: 'low-tide' };
const JOSS: Account = { account: 'eg-1077', password: 'low-tide' };
let [service, call, registry, forum, tables] = [] as unknown as [
  ServiceUnderTest,
  ApiClient & { token: string },
  StandinUnderTest,
  StandinUnderTest,
  StandinUnderTest,
];
let databaseUrl = '';
let [portal, stranger] = [] as unknown as [{ caller_id: string; key: string }, { caller_id: string; key: string }];
const basic = (caller: { caller_id: string; key: string }) => `Basic ${Buffer.from(`${caller.caller_id}:${caller.key}`).toString('base64')}`;
const RETURN = 'http://127.0.0.1:9/portal/done';
/** As the reference library takes it where nobody says otherwise. */
const SECRET = `whsec_${Buffer.from('a-signing-secret-of-some-length').toString('base64')}`;

// biome-ignore lint/suspicious/noExplicitAny: what an application reads, which has no types of ours
type Body = any;
/** A call of the application itself. */
async function own(method: string, path: string, body?: object, as = portal): Promise<{ status: number; body: Body }> {
  const response = await fetch(`${service.url}/api/v1/own/${path}`, {
    method,
    headers: { authorization: basic(as), ...(body ? { 'content-type': 'application/json' } : {}) },
    ...(body ? { body: JSON.stringify(body) } : {}),
  });
  return { status: response.status, body: await response.json() };
}
const invite = async (connection: string, person: string, more: object = {}, as = portal): Promise<{ id: string; url: string; handle: string }> => {
  const { status, body } = await own('POST', `connections/${connection}/invitations`, { person, purpose: 'Show your certificates', ...more }, as);
  expect([status, body.detail ?? '']).toEqual([200, '']);
  return body;
};
/** Follows redirects of our own pages; stops at the provider's, and at the application's. */
async function open(browser: Browser, address: string, form?: URLSearchParams): Promise<{ at: string; status: number; body: string }> {
  let [at, answer] = [address, await browser.fetch(address, form)];
  for (let turn = 0; turn < 20 && answer.location?.startsWith(service.url); turn += 1) [at, answer] = [answer.location, await browser.fetch(answer.location)];
  return { at: answer.location ?? at, status: answer.status, body: answer.body };
}
/** The person: opens the link, goes to the provider, decides, comes back. @returns where it ended */
async function visit(url: string, options: Account & { untick?: string[]; refuse?: boolean }, browser = new Browser()) {
  const page = await open(browser, url);
  expect(page.status).toBe(200);
  const away = await open(browser, `${page.at}/start`, new URLSearchParams());
  const played = await playAuthorization(away.at, options, browser);
  const landed = await eventually(async () => {
    const seen = await open(browser, `${page.at}/wait`);
    return seen.body.includes('One moment') ? null : seen;
  }, LONG);
  return { page, played, landed, browser, base: page.at };
}
const redeem = (landed: { at: string }, as = portal) => own('POST', 'results', { code: new URL(landed.at).searchParams.get('code') ?? '' }, as);
const tokenOf = (connection: string, key: string, as = portal) =>
  fetchToken(service.url, as.caller_id, as.key, `${service.url}/connections/${connection}/people/${personSegment(key)}`);
const relayed = (connection: string, key: string, path: string, as = portal) =>
  fetch(`${service.url}/relay/${connection}/people/${personSegment(key)}/${path}`, { headers: { authorization: basic(as) } });

beforeAll(async () => {
  [registry, forum, tables] = [await startUnderTest('oakum', 600), await startUnderTest('notchboard', 600), await startUnderTest('eelgrass', 600)];
  databaseUrl = await newDatabase();
  service = await startService({ databaseUrl, masterKey: newMasterKey() });
  call = await signIn(service);
  for (const standin of [registry, forum, tables]) await call('addProvider', { body: { document: standin.definitionText } });
  await addClient(call, registry, 'crew', { provider: 'oakum' });
  await addClient(call, forum, 'board', { provider: 'notchboard' });
  await addClient(call, tables, 'office', { provider: 'eelgrass' });
  await call('addConnection', { body: { name: 'crew-id', shared: true, provider: 'oakum', client: 'crew', scopes: ['view.certificates'] } });
  await call('addConnection', { body: { name: 'threads', shared: true, provider: 'notchboard', client: 'board', scopes: ['read', 'keep'] } });
  await call('addConnection', {
    body: { name: 'notes', shared: true, provider: 'eelgrass', client: 'office', scopes: ['tables.read', 'calendars.read', 'profile', 'offline_access'] },
  });
  portal = await call('addCaller', {
    body: { name: 'crew-portal', title: 'Crew portal', redirect_uris: [RETURN] },
  });
  for (const connection of ['crew-id', 'threads', 'notes'])
    await call('permitCaller', { params: { caller: 'crew-portal' }, body: { connection, people: 'manage' } });
  stranger = await call('addCaller', { body: { name: 'stranger' } });
}, 120_000);
afterAll(async () => {
  await service?.stop();
  for (const one of [registry, forum, tables]) await one?.stop();
  if (service) removeFolder(service.folder);
});

test('an application invites a person, who consents at the registry and comes back; it then uses that person\u2019s token', { timeout: LONG }, async () => {
  const { url, handle } = await invite('crew-id', 'member-1', { name: 'Ingrid N.', return_to: RETURN, state: 'xyz' });
  const { page, landed } = await visit(url, MARIT);
  for (const said of ['Crew portal', 'Ingrid N.', 'Show your certificates', 'certificates', 'take this back']) expect(page.body, said).toContain(said);
  expect(landed.at).toMatch(/^http:\/\/127\.0\.0\.1:9\/portal\/done\?code=[\w-]{32}&state=xyz$/);
  const { body } = await redeem(landed);
  expect(body).toMatchObject({ person: 'member-1', handle, name: 'Ingrid N.', state: 'xyz', result: 'connected', missing: [], account: { id: 'C7731K42' } });
  expect((await tokenOf('crew-id', 'member-1')).body).toMatchObject({ token_type: 'Bearer', scope: 'view.certificates' });
  const certificates = await relayed('crew-id', 'member-1', 'certificates');
  expect([certificates.status, await certificates.json()]).toMatchObject([200, { certificates: expect.any(Array) }]);
  // The operator sees the person as a connection of its own, and only where people are listed.
  expect(await call('listPeople', { params: { connection: 'crew-id' }, query: {} })).toMatchObject({
    items: [{ person: 'member-1', handle, state: 'working', account: 'Marit Holm' }],
    total: 1,
    counts: [{ state: 'working', count: 1 }],
  });
  expect((await call('listConnections', { query: {} })).items.map((one) => one.name).filter((name) => name.includes('@'))).toEqual([]);
  expect((await call('renewConnection', { params: { connection: handle } })).renewals).toBe(1);
  expect(await call('showConnection', { params: { connection: 'crew-id' } })).toMatchObject({ state: 'working' });
  for (const refused of [
    () => call('openConnection', { params: { connection: 'crew-id' }, body: {} }),
    () => call('importToken', { params: { connection: 'crew-id' }, body: { refresh_token: 'r' } }),
  ])
    await expect(refused()).rejects.toThrow('shared');
  await expect(call('addConnection', { body: { name: 'n'.repeat(47), shared: true, provider: 'oakum', client: 'crew', scopes: [] } })).rejects.toThrow(
    'expected shape',
  );
  // Paused as a whole, or one person alone.
  for (const paused of ['crew-id', handle]) {
    await call('pauseConnection', { params: { connection: paused } });
    await eventually(async () => ((await tokenOf('crew-id', 'member-1')).status === 400 ? true : null), LONG);
    await call('resumeConnection', { params: { connection: paused } });
    await eventually(async () => ((await tokenOf('crew-id', 'member-1')).status === 200 ? true : null), LONG);
  }
});

test.each([
  ['denied', { refuse: true }, {}, { result: 'denied', granted: [] }, 'You did not allow access'],
  ['a scope left out', { untick: ['calendars.read'] }, {}, { result: 'partly', missing: ['calendars.read'] }, 'What you did not allow'],
  ['another account', {}, { expected_account: 'eg-1077' }, { result: 'other_account', granted: expect.anything() }, 'was expected'],
] as const)('an outcome that the application learns: %s', { timeout: LONG }, async (name, decides, more, outcome, said) => {
  const { url, handle } = await invite('notes', `outcome ${name}`, { ...more, return_to: RETURN });
  const { landed, browser, base } = await visit(url, { ...MARIT, ...decides, untick: [...('untick' in decides ? decides.untick : [])] });
  expect(landed.body).toContain(said);
  if (name === 'another account') expect(landed.body).toContain('Eelgrass was asked to revoke it');
  expect(landed.body).toContain('Back to Crew portal');
  expect((await redeem(await open(browser, `${base}/back`))).body).toMatchObject(outcome);
  const isConnected = outcome.result === 'partly';
  expect((await call('showConnection', { params: { connection: handle } })).standby).toBeNull(); // nobody has to decide
  expect((await tokenOf('notes', `outcome ${name}`)).status).toBe(isConnected ? 200 : 400);
  if (isConnected) return;
  // The link is good until it brought something: the person tries again.
  const away = await open(browser, `${base}/start`, new URLSearchParams());
  await playAuthorization(away.at, 'expected_account' in more ? JOSS : MARIT, browser);
  const back = await eventually(async () => {
    const seen = await open(browser, `${base}/wait`);
    return seen.at.startsWith(RETURN) ? seen : null;
  }, LONG);
  expect((await redeem(back)).body).toMatchObject({ result: 'connected' });
});

test('a provider with device codes: the code is on the page, and the page goes on when it was entered', { timeout: LONG }, async () => {
  const { url } = await invite('threads', 'device', { name: 'Odd' });
  const browser = new Browser();
  const page = await open(browser, url);
  const wait = await open(browser, `${page.at}/start`, new URLSearchParams({ way: 'device' }));
  const code = /class="code">([^<]+)</.exec(wait.body)?.[1] ?? '';
  const where = /href="(http[^"]+)"/.exec(wait.body)?.[1]?.split('?')[0] ?? '';
  expect([code.length > 3, where]).toEqual([true, expect.stringContaining('notchboard')]);
  await playDevice(where, code, MARIT);
  const done = await eventually(async () => {
    const seen = await open(browser, `${page.at}/wait`);
    return seen.body.includes('Connected.') ? seen : null;
  }, LONG);
  expect(done.body).toContain('Show my private link');
  expect((await tokenOf('threads', 'device')).status).toBe(200);
});

test('the person looks, disconnects and reconnects with a private link; the application learns of each', { timeout: LONG }, async () => {
  const { url } = await invite('notes', 'leaver', { return_to: RETURN });
  const { landed } = await visit(url, MARIT);
  const { own_link: link, handle } = (await redeem(landed)).body;
  const browser = new Browser();
  const page = await open(browser, link);
  expect(page.body).toContain('marit.holm@saltmarsh.example');
  expect(page.body).not.toContain('outcome'); // nobody else's
  expect((await open(browser, `${page.at}/disconnect`)).body).toContain('Keep it');
  const left = await open(browser, `${page.at}/disconnect`, new URLSearchParams());
  expect(left.body).toContain('Connect your Eelgrass account');
  expect(await tokenOf('notes', 'leaver')).toMatchObject({ status: 400, body: { error: 'invalid_grant' } });
  const away = await open(browser, `${page.at}/start`, new URLSearchParams());
  await playAuthorization(away.at, { ...MARIT, untick: ['calendars.read'] }, browser);
  await eventually(async () => ((await tokenOf('notes', 'leaver')).status === 200 ? true : null), LONG);
  // Withdrawn at the provider: the next renewal is rejected, and the person's link goes to the application.
  await tables.order('withdraw', { account: 'eg-1042' });
  await call('renewConnection', { params: { connection: handle } }).catch(() => undefined);
  const events = await eventually(async () => {
    const { events: all } = (await own('GET', 'events?limit=500')).body as { events: { type: string; subject: string; data: Record<string, unknown> }[] };
    const his = all.filter((one) => one.subject === 'leaver');
    return his.some((one) => one.type === 'person.withdrawn') ? his : null;
  }, LONG);
  expect(events.map((one) => one.type)).toEqual(['person.consented', 'person.disconnected', 'person.scopes_changed', 'person.withdrawn']);
  expect(events[1]?.data).toMatchObject({ by: 'person' });
  expect(JSON.stringify(events)).not.toContain('/i/'); // a private link travels in no event
  expect((await open(new Browser(), link)).body).toContain('Reconnect to use it again');
  expect((await own('GET', 'events', undefined, stranger)).body.events).toEqual([]);
});

test('events: signed, sent again until taken, never to strangers, and replayed on request', { timeout: LONG }, async () => {
  const seen: { body: string; headers: Record<string, string> }[] = [];
  const server = createServer((request, response) => {
    let body = '';
    request.on('data', (part) => (body += part));
    request.on('end', () => {
      seen.push({ body, headers: request.headers as Record<string, string> });
      response.writeHead(seen.length === 1 ? 503 : 204, { 'retry-after': '1' }).end();
    });
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  const url = `http://127.0.0.1:${(server.address() as AddressInfo).port}/events`;
  await call('setEventReceiver', { params: { caller: 'crew-portal' }, body: { url, signing_secret: SECRET } });
  await visit((await invite('crew-id', 'listened-to')).url, JOSS);
  const state = async () => (await call('showEventReceiver', { params: { caller: 'crew-portal' } })).deliveries[0];
  await eventually(async () => ((await state())?.state === 'delivered' ? true : null), LONG);
  expect(new Set(seen.map((one) => one.headers['webhook-id'])).size).toBe(1);
  const last = seen.at(-1) as (typeof seen)[number];
  expect(new Webhook(SECRET).verify(last.body, last.headers)).toMatchObject({
    specversion: '1.0',
    type: 'person.consented',
    subject: 'listened-to',
    source: `${service.url}/connections/crew-id`,
    data: { connection: 'crew-id', account: { id: 'C7731K77' }, granted: ['view.certificates'] },
  });
  expect(() => new Webhook(`whsec_${Buffer.from('another-secret-of-some-length').toString('base64')}`).verify(last.body, last.headers)).toThrow();
  expect(() => new Webhook(SECRET).verify(last.body.replace('C7731K77', 'C7731K42'), last.headers)).toThrow();
  const count = seen.length;
  expect(await call('replayEvents', { params: { caller: 'crew-portal' }, body: { from: (await state())?.cursor ?? '' } })).toEqual({ sent_again: 1 });
  await eventually(async () => (seen.length > count ? true : null), LONG);
  expect(JSON.stringify(await call('showEventReceiver', { params: { caller: 'crew-portal' } }))).not.toContain(SECRET);
  await call('removeEventReceiver', { params: { caller: 'crew-portal' } });
  server.close();
});

test('one person\u2019s key never reaches another\u2019s token, however odd the keys are', { timeout: LONG }, async () => {
  const keys = ['a/b', 'a%2Fb', 'A', 'a', 'e\u0301', '\u00e9', ' a', 'a ', '\ud83e\uddad', '+', '%'];
  const accounts = [MARIT, JOSS];
  for (const [at, key] of keys.entries()) await visit((await invite('crew-id', key)).url, accounts[at % 2] as Account);
  const handles = new Map(
    (await own('GET', 'connections/crew-id/people?limit=500')).body.items.map((one: { person: string; account: string }) => [one.person, one.account]),
  );
  const tokens = new Map<string, string>();
  for (const [at, key] of keys.entries()) {
    expect([key, handles.get(key)]).toEqual([key, at % 2 === 0 ? 'Marit Holm' : 'Joss Tarrant']);
    const { status, body } = await tokenOf('crew-id', key);
    expect([key, status]).toEqual([key, 200]);
    tokens.set(key, String(body.access_token));
    const byPath = await fetch(`${service.url}/oauth/token/crew-id/people/${personSegment(key)}`, {
      method: 'POST',
      headers: { authorization: basic(portal) },
      body: new URLSearchParams({ grant_type: 'client_credentials' }),
    });
    expect((await byPath.json()).access_token).toBe(body.access_token);
  }
  expect(new Set(tokens.values()).size).toBe(keys.length);
  await fc.assert(
    fc.asyncProperty(
      fc.oneof(fc.string({ unit: 'binary', minLength: 1, maxLength: 20 }), fc.constantFrom('a%2fb', '%41', 'a\u0000', 'b', 'a/b/', './a', 'aa')),
      async (key) => {
        fc.pre(personKeyProblem(key) !== null || !tokens.has(key));
        fc.pre(!['member-1', 'listened-to'].includes(key));
        expect((await tokenOf('crew-id', key)).status).toBe(400);
        expect((await relayed('crew-id', key, 'certificates')).status).toBe(403);
      },
    ),
    { numRuns: 40 },
  );
  expect((await tokenOf('crew-id', 'a', stranger)).status).toBe(400);
  expect((await relayed('crew-id', 'a', 'certificates', stranger)).status).toBe(403);
  expect((await fetchToken(service.url, portal.caller_id, portal.key, `${service.url}/connections/crew-id`)).body.error_description).toContain(
    'name the person',
  );
});

test('permitted by a label of the person: those with it, and nobody else', { timeout: LONG }, async () => {
  await visit((await invite('crew-id', 'deck-hand', { labels: ['deck'] })).url, MARIT);
  const deck = await call('addCaller', { body: { name: 'deck-only' } });
  await call('permitCaller', { params: { caller: 'deck-only' }, body: { label: 'deck', use: 'relay' } });
  expect((await relayed('crew-id', 'deck-hand', 'certificates', deck)).status).toBe(200);
  expect((await relayed('crew-id', 'a', 'certificates', deck)).status).toBe(403);
  expect((await tokenOf('crew-id', 'deck-hand', deck)).status).toBe(400); // relay only
  // What an application invited is told to it alone; whom an operator invited for none, to all that may see these people.
  const { url } = await call('invitePerson', { params: { connection: 'crew-id' }, body: { person: 'deck-mate', purpose: 'Certificates', labels: ['deck'] } });
  await visit(url, JOSS);
  expect((await own('GET', 'events', undefined, deck)).body.events).toEqual([]);
  await call('permitCaller', { params: { caller: 'deck-only' }, body: { label: 'deck', use: 'relay', people: 'read' } });
  const events = await eventually(async () => {
    const all = (await own('GET', 'events', undefined, deck)).body.events as { subject: string }[];
    return all.length > 0 ? all : null;
  }, LONG);
  expect(new Set(events.map((one) => one.subject))).toEqual(new Set(['deck-mate']));
});

test('attacks: guessed and foreign links, forged requests, tampered addresses, stolen codes, markup in names', { timeout: LONG }, async () => {
  const { url, id } = await invite('notes', 'target', { name: '<img src=x onerror=alert(1)>', purpose: '"><script>alert(1)</script>', return_to: RETURN });
  const browser = new Browser();
  const page = await open(browser, url);
  expect(page.body).not.toMatch(/<script|<img/);
  expect(page.body).toContain('&#60;script');
  expect(page.at).not.toContain(url.slice(-32)); // the ticket left the address
  const headers = (await fetch(`${service.url}/i/p/${id}`)).headers;
  expect(headers.get('content-security-policy')).toMatch(/default-src 'none'.*frame-ancestors 'none'/);
  expect(headers.get('cache-control')).toBe('no-store');
  // Without the cookie of this very link nothing is shown or done; a guess is as good as nothing.
  const status = async (address: string, form?: URLSearchParams, as = new Browser()) => (await as.fetch(address, form)).status;
  const other = new Browser();
  await open(other, (await invite('notes', 'someone else')).url);
  for (const as of [new Browser(), other])
    for (const path of ['', '/wait', '/disconnect', '/back']) expect(await status(`${page.at}${path}`, undefined, as), path).toBe(404);
  for (const path of ['/start', '/disconnect', '/link']) expect(await status(`${page.at}${path}`, new URLSearchParams(), other), path).toBe(404);
  expect(await status(`${service.url}/i/${'A'.repeat(32)}`)).toBe(404);
  expect(await status(`${service.url}/i/p/${id.slice(0, -1)}0`)).toBe(404);
  const forged = await fetch(`${page.at}/start`, {
    method: 'POST',
    redirect: 'manual',
    headers: { origin: 'https://evil.example', 'sec-fetch-site': 'cross-site' },
  });
  expect(forged.status).toBe(403);
  // Addresses that nobody registered, by whatever trick.
  for (const address of ['https://evil.example/', `${RETURN}/../x`, `${RETURN}?x`, RETURN.replace('127.0.0.1', '127.0.0.1@evil.example')])
    expect((await own('POST', 'connections/notes/invitations', { person: 'p', purpose: 'x', return_to: address })).status, address).toBe(400);
  // The callback in another browser is refused, and the code that leaves stays good for its own caller alone.
  const away = await open(browser, `${page.at}/start`, new URLSearchParams());
  const played = await playAuthorization(away.at, { ...MARIT, stopBeforeCallback: true }, browser);
  expect(await status(played.endedAt, undefined, new Browser())).toBe(403);
  await browser.fetch(played.endedAt);
  const landed = await eventually(async () => {
    const seen = await open(browser, `${page.at}/wait`);
    return seen.at.startsWith(RETURN) ? seen : null;
  }, LONG);
  await call('permitCaller', { params: { caller: 'stranger' }, body: { connection: 'notes', use: 'any' } });
  expect((await redeem(landed, stranger)).status).toBe(410);
  expect((await redeem(landed)).body).toMatchObject({ person: 'target', result: 'connected' });
  expect((await redeem(landed)).status).toBe(410);
  // The back button: the callback once more does nothing, the link is used, and a new consent does not begin.
  expect((await open(browser, played.endedAt)).at).toMatch(RETURN);
  expect(await status(`${page.at}/start`, new URLSearchParams(), browser)).toBe(410);
  // Forwarded after it was used: another browser sees neither the account nor what came of it, and can end nothing.
  const curious = new Browser();
  const forwarded = await open(curious, url);
  expect(forwarded.body).toContain('This link was used already');
  expect(forwarded.body).not.toContain('marit.holm');
  expect((await open(curious, `${forwarded.at}/back`)).at).toBe(forwarded.at);
  for (const path of ['/disconnect', '/link']) expect(await status(`${forwarded.at}${path}`, new URLSearchParams(), curious), path).toBe(404);
  // Revoked: the link shows it, and nothing more can be done with it.
  const revoked = await invite('notes', 'revoked');
  await call('revokeInvitation', { params: { invitation: revoked.id } });
  const late = new Browser();
  const seen = await open(late, revoked.url);
  expect(seen.body).toContain('withdrawn');
  expect(await status(`${seen.at}/start`, new URLSearchParams(), late)).toBe(410);
  expect((await call('listInvitations', { params: { connection: 'notes' }, query: {} })).items.slice(0, 1)).toMatchObject([
    { person: 'revoked', state: 'revoked' },
  ]);
  // Expired: shown, and nothing begins.
  const expiring = await invite('notes', 'expired');
  const database = openDatabase(databaseUrl, 1);
  await database.write('UPDATE invitations SET expires_at = UTC_TIMESTAMP(3) - INTERVAL 1 SECOND ORDER BY created_at DESC LIMIT 1');
  await database.close();
  const slow = new Browser();
  const expired = await open(slow, expiring.url);
  expect(expired.body).toContain('This link has expired');
  expect(await status(`${expired.at}/start`, new URLSearchParams(), slow)).toBe(410);
  // No ticket, code or whole key of a person stands in the log.
  for (const secret of [url.slice(-32), new URL(landed.at).searchParams.get('code') ?? '', 'someone else']) expect(service.output()).not.toContain(secret);
});

test('managing people is a permission of its own: the narrowest one to call the API does not bring it', { timeout: LONG }, async () => {
  const narrow = await call('addCaller', { body: { name: 'narrow' } });
  const permit = (people: 'none' | 'read' | 'manage') =>
    call('permitCaller', {
      params: { caller: 'narrow' },
      body: { connection: 'notes', use: 'relay', methods: ['GET'], paths: ['/public/**'], people },
    });
  const tries = async () => [
    (await own('GET', 'connections/notes/people', undefined, narrow)).status,
    (await own('POST', 'connections/notes/invitations', { person: 'x', purpose: 'x' }, narrow)).status,
    (await own('POST', 'connections/notes/people/disconnect', { person: 'nobody of mine' }, narrow)).status,
  ];
  for (const [right, expected] of [
    ['none', [403, 403, 403]],
    ['read', [200, 403, 403]],
    ['manage', [200, 200, 404]],
  ] as const) {
    await permit(right);
    await eventually(async () => (JSON.stringify(await tries()) === JSON.stringify(expected) ? true : null), LONG);
    expect((await own('GET', 'events', undefined, narrow)).body.events).toEqual([]); // the portal invited them
  }
});

test('an invitation for one use is used once: of two browsers that both come back, and of eight at once, one connects', { timeout: 3 * LONG }, async () => {
  for (const [person, browsers] of [
    ['twice', 2],
    ['eight times', 8],
  ] as const) {
    const { url, handle } = await invite('notes', person);
    const begun = await Promise.all(
      Array.from({ length: browsers }, async () => {
        const browser = new Browser();
        const page = await open(browser, url);
        const away = await open(browser, `${page.at}/start`, new URLSearchParams());
        const played = await playAuthorization(away.at, { ...MARIT, stopBeforeCallback: true }, browser);
        return { browser, base: page.at, back: played.endedAt };
      }),
    );
    if (browsers === 2) for (const one of begun) await one.browser.fetch(one.back);
    else await Promise.all(begun.map((one) => one.browser.fetch(one.back)));
    const ends = await Promise.all(
      begun.map(({ browser, base }) =>
        eventually(async () => {
          const { body } = await open(browser, `${base}/wait`);
          return body.includes('One moment') ? null : body.includes('Connected.') ? 'connected' : 'not connected';
        }, LONG),
      ),
    );
    expect(ends.filter((end) => end === 'connected')).toHaveLength(1);
    const [listed] = (await call('listInvitations', { params: { connection: 'notes' }, query: {} })).items;
    expect(listed).toMatchObject({ person, uses: 1, uses_most: 1, state: 'used' });
    expect((await call('listHistory', { query: { subject: `connection:${handle}`, kind: 'consented' } })).items).toHaveLength(1);
    const third = new Browser();
    const page = await open(third, url);
    expect((await third.fetch(`${page.at}/start`, new URLSearchParams())).status).toBe(410);
  }
});
