import { generateKeyPair, type JWTPayload, SignJWT } from 'jose';
import { afterAll, beforeAll, beforeEach, expect, test } from 'vitest';
import { removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { type Person, startIdentityProvider } from './support/identity-provider.ts';
import { newDatabase } from './support/new-database.ts';

/** Operators sign in at the company's own provider: with different habits, and with everything that an attacker may send. */
const LONG = 60_000;
let [service, provider] = [] as unknown as [ServiceUnderTest, Awaited<ReturnType<typeof startIdentityProvider>>];
let call: Awaited<ReturnType<typeof signIn>>;
beforeAll(async () => {
  service = await startService({ databaseUrl: await newDatabase() });
  call = await signIn(service);
  provider = await startIdentityProvider();
  const rules = [
    { group: 'kettle-admins', role: 'administrator' as const },
    { group: 'deck', role: 'operator' as const, labels: ['team=deck'] },
    { group: 'office', role: 'operator' as const, labels: ['team=office'] },
    { group: 'everyone', role: 'viewer' as const },
  ];
  await call('setIdentityProvider', { body: { title: 'Saltmarsh', issuer: provider.issuer, client_id: 'kettle', client_secret: 'idp-secret', rules } });
}, LONG);
afterAll(async () => {
  await service?.stop();
  provider?.stop();
  if (service) removeFolder(service.folder);
});
beforeEach(() => Object.assign(provider.habits, { groups: 'claim', names: 'claim', clockSeconds: 0, claims: {}, sign: null, down: false, iss: null }));

/** A browser of its own, which keeps cookies of this service. */
class Visit {
  readonly cookies = new Map<string, string>();
  async get(url: string): Promise<Response> {
    const isOurs = url.startsWith(service.url);
    const response = await fetch(url, {
      redirect: 'manual',
      headers: isOurs ? { cookie: [...this.cookies].map(([name, value]) => `${name}=${value}`).join('; ') } : {},
    });
    if (isOurs)
      for (const line of response.headers.getSetCookie()) {
        const [pair = ''] = line.split(';');
        this.cookies.set(pair.slice(0, pair.indexOf('=')), pair.slice(pair.indexOf('=') + 1));
      }
    return response;
  }
  async start(): Promise<string> {
    return (await this.get(`${service.url}/sign-in/start`)).headers.get('location') ?? '';
  }
  async session(): Promise<{ operator: string; role: string; labels: string[] } | null> {
    const response = await this.get(`${service.url}/api/v1/session`);
    return response.ok ? ((await response.json()) as never) : null;
  }
}
/** Goes there, comes back, and is signed in or reads why not. */
async function visit(person: Person | null, browser = new Visit()): Promise<{ browser: Visit; page: string; back: string }> {
  provider.isPerson(person);
  const there = await browser.get(await browser.start());
  const back = there.headers.get('location') ?? '';
  const page = await (await browser.get(back)).text();
  return { browser, page, back };
}
const ODA: Person = { sub: 's-oda', preferred_username: 'Oda.Lien', groups: ['deck', 'everyone'] };

test('first sign-in makes the account; groups decide role and limits, each time', async () => {
  const { browser } = await visit(ODA);
  expect(await browser.session()).toMatchObject({ operator: 'oda.lien', role: 'operator', labels: ['team=deck'] });
  expect((await (await visit({ ...ODA, groups: ['deck', 'office'] })).browser.session())?.labels).toEqual(['team=deck', 'team=office']);
  expect(await (await visit({ ...ODA, groups: ['kettle-admins'] })).browser.session()).toMatchObject({ role: 'administrator', labels: [] });
  const listed = (await call('listOperators')).items.find((one) => one.name === 'oda.lien');
  expect(listed).toMatchObject({ source: 'identity_provider', state: 'active' });
  expect(JSON.stringify(await call('showIdentityProvider'))).not.toContain('idp-secret');
  // It has no password: nobody signs in with one, and nobody resets it here.
  await expect(call('resetOperator', { params: { operator: 'oda.lien' } })).rejects.toThrow(/identity provider/);
});

test.each<[string, 'elsewhere' | 'user_info' | 'missing', string | null]>([
  ['a link, because they are too many', 'elsewhere', 'operator'],
  ['the user info endpoint', 'user_info', 'operator'],
  ['nowhere', 'missing', null],
])('groups stand in %s', async (_name, groups, role) => {
  provider.habits.groups = groups;
  const { browser, page } = await visit({ sub: `s-${groups}`, preferred_username: `by-${groups}`, groups: ['deck'] });
  expect((await browser.session())?.role ?? null).toBe(role);
  if (role === null) expect(page).toContain('sent no groups');
});

test('a name that only the user info endpoint tells is taken; someone without one is called so once it is told, and may be called otherwise', async () => {
  provider.habits.names = 'user_info';
  const told = { sub: 's-told', preferred_username: 'Tove.Told', groups: ['everyone'] };
  expect((await (await visit(told)).browser.session())?.operator).toBe('tove.told');
  provider.habits.names = 'missing';
  const late = { sub: 's-late', preferred_username: 'Liv.Late', groups: ['everyone'] };
  expect((await (await visit(late)).browser.session())?.operator).toMatch(/^person-[0-9a-f]{8}$/);
  provider.habits.names = 'claim';
  expect((await (await visit(late)).browser.session())?.operator).toBe('liv.late');
  await call('changeOperator', { params: { operator: 'liv.late' }, body: { name: 'liv' } });
  expect((await (await visit(late)).browser.session())?.operator).toBe('liv'); // what somebody chose here stays
  await expect(call('changeOperator', { params: { operator: 'liv' }, body: { name: 'marit' } })).rejects.toMatchObject({ problem: { code: 'NAME_TAKEN' } });
});

test('a clock that is 90 s off, and keys that were rotated, are no obstacle', async () => {
  for (const clockSeconds of [90, -90]) {
    provider.habits.clockSeconds = clockSeconds;
    expect((await (await visit(ODA)).browser.session())?.operator).toBe('oda.lien');
  }
  await provider.rotateKeys();
  expect((await (await visit(ODA)).browser.session())?.operator).toBe('oda.lien');
  const before = provider.seen.filter((path) => path === '/keys').length;
  provider.habits.sign = forged;
  for (let turn = 0; turn < 5; turn += 1) await visit(ODA); // tokens with unknown keys do not make us fetch without end
  expect(provider.seen.filter((path) => path === '/keys').length - before).toBe(0);
  provider.habits.clockSeconds = 0;
});

test('a group disappears: the next sign-in is refused, and sessions that are open end', async () => {
  const { browser } = await visit({ sub: 's-berit', preferred_username: 'berit', groups: ['everyone'] });
  expect((await browser.session())?.role).toBe('viewer');
  const { page } = await visit({ sub: 's-berit', preferred_username: 'berit', groups: ['other'] });
  expect(page).toContain('None of your groups has a role');
  expect(await browser.session()).toBe(null);
});

test('another subject under the same name is another person: refused, and never joined', async () => {
  const { browser, page } = await visit({ sub: 's-other', preferred_username: 'oda.lien', groups: ['kettle-admins'] });
  expect(page).toContain('Another account here is called oda.lien');
  expect(await browser.session()).toBe(null);
  const { page: local } = await visit({ sub: 's-marit', preferred_username: 'marit', groups: ['everyone'] });
  expect(local).toContain('Another account here is called marit');
});

const forged = async (claims: JWTPayload) =>
  new SignJWT(claims).setProtectedHeader({ alg: 'RS256', kid: 'k1' }).sign((await generateKeyPair('RS256')).privateKey);
const part = (value: object) => Buffer.from(JSON.stringify(value)).toString('base64url');
test.each<[string, () => void, RegExp]>([
  ['signed by someone else', () => void Object.assign(provider.habits, { sign: forged }), /ID token is not good/],
  [
    'alg none',
    () => void Object.assign(provider.habits, { sign: async (claims: JWTPayload) => `${part({ alg: 'none' })}.${part(claims)}.` }),
    /ID token is not good/,
  ],
  [
    'HMAC with the client secret',
    () =>
      void Object.assign(provider.habits, {
        sign: (claims: JWTPayload) => new SignJWT(claims).setProtectedHeader({ alg: 'HS256' }).sign(new TextEncoder().encode('idp-secret')),
      }),
    /ID token is not good/,
  ],
  ['for another client', () => void Object.assign(provider.habits, { claims: { aud: 'another' } }), /ID token is not good/],
  ['of another issuer', () => void Object.assign(provider.habits, { claims: { iss: 'https://evil.test' } }), /ID token is not good/],
  ['expired', () => void Object.assign(provider.habits, { claims: { exp: Math.floor(Date.now() / 1000) - 600 } }), /ID token is not good/],
  ['with the nonce of another sign-in', () => void Object.assign(provider.habits, { claims: { nonce: 'another' } }), /ID token is not good/],
  ['without a subject', () => void Object.assign(provider.habits, { claims: { sub: '' } }), /ID token is not good/],
  ['an answer of another issuer (mix-up)', () => void Object.assign(provider.habits, { iss: 'https://evil.test' }), /another issuer \(iss\)/],
  ['groups that are no list', () => void Object.assign(provider.habits, { claims: { groups: { 'kettle-admins': true } } }), /sent no groups/],
])('an ID token %s is refused', async (_name, habit, why) => {
  habit();
  const { browser, page } = await visit({ sub: 's-attacker', preferred_username: 'attacker', groups: ['kettle-admins'] });
  expect(page).toMatch(why);
  expect(await browser.session()).toBe(null);
});

test('an answer is good in its own browser, once, with its own state', async () => {
  const first = await visit(ODA);
  expect(await (await first.browser.get(first.back)).text()).toContain('not started in this browser'); // replayed: its cookie is gone
  const victim = new Visit();
  await victim.start();
  const other = new URL((await new Visit().get(await new Visit().start())).headers.get('location') ?? '');
  expect(await (await victim.get(other.href)).text()).toContain('belongs to another sign-in'); // sign-in with an attacker's code
  expect(await victim.session()).toBe(null);
  expect(await (await new Visit().get(other.href)).text()).toContain('not started in this browser');
});

test('signed out there, signed out here: the one session, or all; forged logout tokens do nothing', async () => {
  const one = await visit({ ...ODA, sid: 'sid-1' });
  const two = await visit({ ...ODA, sid: 'sid-2' });
  const event = { events: { 'http://schemas.openid.net/event/backchannel-logout': {} } };
  const now = Math.floor(Date.now() / 1000);
  const logout = async (claims: JWTPayload, sign = provider.signed) => {
    const token = await sign({ iss: provider.issuer, aud: 'kettle', iat: now, jti: crypto.randomUUID(), ...event, ...claims });
    return (await fetch(`${service.url}/sign-in/back-channel`, { method: 'POST', body: new URLSearchParams({ logout_token: token }) })).status;
  };
  expect(await logout({ sid: 'sid-1', sub: 's-oda' }, forged)).toBe(400);
  expect(await logout({ sid: 'sid-1', sub: 's-oda', nonce: 'an ID token' })).toBe(400);
  expect(await logout({ sid: 'sid-1', sub: 's-oda', events: {} })).toBe(400);
  expect(await logout({ sid: 'sid-1', sub: 's-oda', aud: 'another' })).toBe(400);
  expect(await logout({ sid: 'sid-1', sub: 's-oda', iat: now - 3_600 })).toBe(400);
  expect(await logout({})).toBe(400);
  expect((await one.browser.session())?.operator).toBe('oda.lien');
  expect(await logout({ sid: 'sid-1', sub: 's-oda', jti: 'once' })).toBe(200);
  expect(await logout({ sid: 'sid-1', sub: 's-oda', jti: 'once' })).toBe(400);
  expect([await one.browser.session(), (await two.browser.session())?.operator]).toEqual([null, 'oda.lien']);
  expect(await logout({ sub: 's-oda' })).toBe(200);
  expect(await two.browser.session()).toBe(null);
});

test('the provider is down: the page says so, and a local administrator gets in', async () => {
  provider.habits.down = true;
  const { page } = await visit(ODA).catch(() => ({ page: 'broken off' }));
  expect(page).toMatch(/broken off|did not answer/);
  expect((await signIn(service)).token).toBeTruthy();
  provider.habits.down = false;
  await call('changeOperator', { params: { operator: 'oda.lien' }, body: { disabled: true } });
  expect((await visit(ODA)).page).toContain('disabled here');
  // An account of the provider does not count as the way in that is left: the last local administrator stays.
  await call('changeOperator', { params: { operator: 'oda.lien' }, body: { disabled: false } });
  await visit({ ...ODA, groups: ['kettle-admins'] });
  await expect(call('removeOperator', { params: { operator: 'marit' } })).rejects.toThrow(/last administrator/);
});
