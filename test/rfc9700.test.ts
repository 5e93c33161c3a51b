import { readFileSync } from 'node:fs';
import { request } from 'undici';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import type { ConsentOutcome } from '../src/api/connections.ts';
import { Browser, playAuthorization, playConsent } from '../src/standins/visitor.ts';
import { PASSWORD, removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addClient, addConnection, addEelgrass, agree, type StandinUnderTest, startEelgrass, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** The attacks of RFC 9700 on a client, tried; docs/SECURITY.md names each by its section. */
let [service, standin, berthline, call]: [ServiceUnderTest, StandinUnderTest, StandinUnderTest, ApiClient & { token: string }] = [] as never;

beforeAll(async () => {
  [standin, berthline] = await Promise.all([startEelgrass(3600), startUnderTest('berthline', 3600)]);
  service = await startService({ databaseUrl: await newDatabase() });
  call = await signIn(service);
  await addEelgrass(call, standin);
  await addClient(call, standin, 'second');
  await call('addProvider', { body: { document: berthline.definitionText } });
  await addClient(call, berthline, 'harbour', { provider: 'berthline', placeholders: { region: 'north' } });
  await addConnection(call, 'victim');
  await addConnection(call, 'through-second', undefined, 'second');
});
afterAll(async () => {
  await service?.stop();
  await standin?.stop();
  await berthline?.stop();
  removeFolder(service.folder);
});
const raw = (path: string, headers: Record<string, string> = {}, method: 'GET' | 'POST' = 'GET', body: string | null = null) =>
  request(`${service.url}${path}`, { method, headers, body });
const finished = (consent: string): Promise<ConsentOutcome> =>
  eventually(async () => {
    const seen = await call('showConsent', { params: { consent } });
    return seen.phase === 'done' || seen.phase === 'failed' ? seen : null;
  });
/** A consent of the victim, up to the moment at which the browser is sent back. */
async function away(connection = 'victim') {
  const browser = new Browser();
  const opened = await call('openConnection', { params: { connection } });
  const { endedAt } = await playConsent(opened.start_url, { stopBeforeCallback: true }, browser);
  return { browser, opened, callback: new URL(endedAt) };
}
const grantsHeld = async () => (await call('listHistory', { query: { limit: 500 } })).items.filter((one) => one.kind === 'consented').length;

test('§4.4 mix-up: an answer at another client\u2019s redirect URI, or with another issuer, is not taken', async () => {
  const { browser, opened, callback } = await away();
  const elsewhere = new URL(callback);
  elsewhere.pathname = callback.pathname.replace('/timetable', '/second');
  expect(await browser.fetch(elsewhere.href)).toMatchObject({ status: 410, body: expect.stringContaining('another client') });
  const other = new URL(callback);
  other.pathname = '/oauth/callback/berthline/harbour';
  expect((await browser.fetch(other.href)).status).toBe(410);
  expect((await call('showConsent', { params: { consent: opened.id } })).phase).toBe('started'); // nothing was spent by it
  for (const iss of [null, 'https://id.attacker.example']) {
    const { browser: one, opened: again, callback: back } = await away();
    if (iss === null) back.searchParams.delete('iss');
    else back.searchParams.set('iss', iss);
    await one.fetch(back.href);
    expect(await finished(again.id)).toMatchObject({ phase: 'failed', problem: { diagnosis: { cause: 'answer_forged' } } });
  }
});

test('§4.5 authorization code injection: an attacker\u2019s code in the victim\u2019s consent brings no tokens', async () => {
  const attacker = await away();
  const victim = await away();
  const before = await grantsHeld();
  const injected = new URL(victim.callback);
  injected.searchParams.set('code', attacker.callback.searchParams.get('code') ?? '');
  await victim.browser.fetch(injected.href);
  expect(await finished(victim.opened.id)).toMatchObject({ phase: 'failed', problem: { evidence: expect.stringContaining('code_verifier') } });
  const pasted = await call('openConnection', { params: { connection: 'victim' }, body: { way: 'pasted' } });
  const { endedAt } = await playAuthorization(pasted.authorization_url ?? '', { stopBeforeCallback: true });
  const third = await away();
  const mixed = new URL(endedAt);
  mixed.searchParams.set('code', third.callback.searchParams.get('code') ?? '');
  await call('answerConsent', { params: { consent: pasted.id }, body: { pasted: mixed.href } });
  expect(await finished(pasted.id)).toMatchObject({ phase: 'failed' });
  expect(await grantsHeld()).toBe(before);
});

test('§4.7 CSRF: a consent ends only in the browser in which it began; sign-in and every write ask where they come from', async () => {
  const { callback, opened } = await away();
  expect((await new Browser().fetch(callback.href)).status).toBe(403);
  expect((await call('showConsent', { params: { consent: opened.id } })).phase).toBe('started');
  const other = await away('through-second'); // a browser with a consent cookie of another consent
  expect((await other.browser.fetch(callback.href)).status).toBe(403);
  const signIn = JSON.stringify({ name: 'marit', password: PASSWORD, keeps: 'cookie' });
  const foreign = { 'content-type': 'application/json', origin: 'https://evil.example', 'sec-fetch-site': 'cross-site' };
  expect((await raw('/api/v1/session', foreign, 'POST', signIn)).statusCode).toBe(403);
  const own = await raw('/api/v1/session', { 'content-type': 'application/json', origin: service.url }, 'POST', signIn);
  const cookie = String(own.headers['set-cookie']);
  expect([own.statusCode, cookie]).toEqual([200, expect.stringMatching(/HttpOnly; SameSite=Strict/i)]);
  const session = cookie.split(';')[0] ?? '';
  for (const headers of [
    { origin: 'https://evil.example', cookie: session },
    { 'sec-fetch-site': 'cross-site', cookie: session },
  ])
    expect((await raw('/api/v1/connections/victim/pause', headers as Record<string, string>, 'POST')).statusCode).toBe(403);
  const simple = await raw('/api/v1/connections/victim/key', { cookie: session, origin: service.url, 'content-type': 'text/plain' }, 'POST', '{"key":"x"}');
  expect(simple.statusCode).toBe(415);
});

test('§4.8 PKCE downgrade: every request carries an S256 challenge and a state of its own', async () => {
  const seen = new Set<string>();
  for (let n = 0; n < 5; n += 1) {
    const { authorization_url: url } = await call('openConnection', { params: { connection: 'victim' }, body: { way: 'pasted' } });
    const sent = new URL(url ?? '').searchParams;
    expect([sent.get('code_challenge_method'), sent.get('code_challenge')?.length, sent.get('response_type')]).toEqual(['S256', 43, 'code']);
    for (const name of ['state', 'code_challenge']) seen.add(sent.get(name) ?? '');
  }
  expect(seen.size).toBe(10);
});

test('§4.9, §4.10 tokens go to the definition\u2019s hosts and nowhere else', async () => {
  await agree(call, 'victim');
  for (const path of ['https://evil.example/x', '//evil.example/x', '/../../admin', '/a/%2e%2e/b', '/a\\b', 'http://127.0.0.1:1/x', '/x#y'])
    await expect(call('callConnection', { params: { connection: 'victim' }, body: { path } })).rejects.toMatchObject({ problem: { code: 'HOST_NOT_LISTED' } });
});

test('§4.11 open redirect: no address of ours sends a browser to a place that a parameter names', async () => {
  const evil = encodeURIComponent('https://evil.example/');
  for (const path of ['/', '/consent/start/none', '/oauth/callback/eelgrass/timetable', '/oauth/callback/eelgrass/nobody', '/oauth/token', '/api/v1/session'])
    for (const name of ['next', 'return_to', 'redirect_uri', 'url', 'state', 'error_uri']) {
      const { headers } = await raw(`${path}?${name}=${evil}`);
      expect(String(headers.location ?? ''), `${path}?${name}`).not.toContain('evil');
    }
  const { browser, opened, callback } = await away();
  callback.searchParams.set('redirect_uri', 'https://evil.example/');
  expect(await browser.fetch(callback.href)).toMatchObject({ status: 303, location: `${service.url}/#/consents/${opened.id}` }); // §4.12: 303, never 307
});

test('replay: a ticket, a state and a code work once', async () => {
  const { browser, opened, callback } = await away();
  expect((await browser.fetch(opened.start_url)).status).toBe(410);
  await browser.fetch(callback.href);
  await finished(opened.id);
  const counted = async () =>
    Object.entries((await standin.counters()).counters)
      .filter(([name]) => name.startsWith('token.authorization_code'))
      .reduce((sum, [, n]) => sum + n, 0);
  const before = await counted();
  await Promise.all(Array.from({ length: 5 }, () => browser.fetch(callback.href)));
  expect(await counted()).toBe(before);
  const together = await away();
  await Promise.all(Array.from({ length: 5 }, () => together.browser.fetch(together.callback.href)));
  await finished(together.opened.id);
  expect(await counted()).toBe(before + 1);
});

test('§4.16 clickjacking, and leaks by Referer: every page shows no to frames, sends no Referer, and is not cached where it holds something', async () => {
  const { browser, callback } = await away();
  void browser;
  for (const path of ['/', `${callback.pathname}${callback.search}`, '/consent/start/none', '/nothing-here', '/api/v1/session']) {
    const { headers } = await raw(path);
    expect(String(headers['content-security-policy']), path).toContain("frame-ancestors 'none'");
    expect([headers['referrer-policy'], headers['x-frame-options'], headers['x-content-type-options']], path).toEqual(['no-referrer', 'DENY', 'nosniff']);
    expect(headers['content-security-policy']).toContain("script-src 'self'");
  }
  const answer = await raw('/api/v1/connections', { authorization: `Bearer ${call.token}` });
  expect(answer.headers['cache-control']).toBe('no-store');
});

test('scope upgrade: what was granted without being requested is named, and an ID token or account of someone else is not taken silently', async () => {
  const { browser, opened } = await away();
  void browser;
  const second = await away();
  const grant = Object.values(standin.store.state.grants).at(-1);
  grant?.scopes.push('tables.write');
  await second.browser.fetch(second.callback.href);
  expect(await finished(second.opened.id)).toMatchObject({
    scopes: { unasked: ['tables.write'] },
    warnings: [expect.stringContaining('without being requested')],
  });
  expect(opened.id).not.toBe(second.opened.id);
});

test('session fixation: a session or consent cookie that someone else set is never taken on', async () => {
  const fixed = `rk_session_${new URL(service.url).port}=fixed-by-somebody-else`;
  const own = await raw(
    '/api/v1/session',
    { 'content-type': 'application/json', origin: service.url, cookie: fixed },
    'POST',
    JSON.stringify({ name: 'marit', password: PASSWORD, keeps: 'cookie' }),
  );
  expect(String(own.headers['set-cookie'])).not.toContain('fixed-by-somebody-else');
  expect((await raw('/api/v1/session', { cookie: fixed })).statusCode).toBe(401);
  const opened = await call('openConnection', { params: { connection: 'victim' } });
  const name = `rk_consent_${opened.id.replaceAll('-', '').slice(-12)}`;
  const started = await request(opened.start_url, { method: 'POST', headers: { cookie: `${name}=fixed` } });
  const [cookie = ''] = [started.headers['set-cookie'] ?? []].flat();
  expect([cookie.startsWith(`${name}=`), cookie.includes('=fixed;')]).toEqual([true, false]);
  expect(cookie).toMatch(/HttpOnly; SameSite=Lax/i);
});

test('every test that docs/SECURITY.md names is there, under that name', () => {
  const table = readFileSync(new URL('../docs/SECURITY.md', import.meta.url), 'utf8');
  const rows = table.split('\n').filter((line) => line.startsWith('| ') && !line.startsWith('| section'));
  expect(rows.length).toBeGreaterThan(20);
  const named = [...table.matchAll(/`((?:test|src)\/[^`]+)`(?:: ([^;|`]+))?/g)];
  for (const [, file = '', title] of named) {
    const text = readFileSync(new URL(`../${file}`, import.meta.url), 'utf8').replaceAll('\\u2019', '\u2019');
    if (title) expect(text, `${file}: ${title}`).toContain(title.trim().replaceAll("'", '\u2019'));
  }
});

test('logs: neither code, state, ticket nor token stands in them, at the most talkative level', async () => {
  const { browser, opened, callback } = await away();
  await browser.fetch(callback.href);
  await finished(opened.id);
  const written = service.output();
  expect(written.length).toBeGreaterThan(5_000);
  const told = [
    callback.searchParams.get('code'),
    callback.searchParams.get('state'),
    opened.start_url.split('/').at(-1),
    ...Object.keys(standin.store.state.accessTokens),
    ...Object.keys(standin.store.state.refreshTokens),
  ];
  for (const secret of told) expect(written).not.toContain(secret);
});
