import { X509Certificate } from 'node:crypto';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { connect } from 'node:tls';
import { Agent, fetch as fetchBy } from 'undici';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { type Authority, type Issued, makeAuthority } from '../testing/authority.ts';
import { HEARD_MS, newFolder, PASSWORD, removeFolder, rk, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addClient, type StandinUnderTest, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** The service answers HTTPS itself, and callers authenticate with certificates in the handshake (RFC 8705). */
const LONG = 90_000;
const home = newFolder();
const at = (name: string) => join(home, name);
let [authority, stranger, server, later] = [] as unknown as [Authority, Authority, Issued, Issued];
let [standin, service, call] = [] as unknown as [StandinUnderTest, ServiceUnderTest, Awaited<ReturnType<typeof signIn>>];
let callers: Record<'nightly' | 'board', string>;

/** A client that trusts the authority, with a certificate of its own or without. */
function client(own?: Issued): typeof fetch {
  const dispatcher = new Agent({ connect: { ca: authority.certificate, ...(own ? { cert: own.certificate, key: own.key } : {}) } });
  return ((url: string, init: object) => fetchBy(url, { ...init, dispatcher })) as unknown as typeof fetch;
}
const place = (issued: Issued) => {
  writeFileSync(at('server.key'), issued.key);
  writeFileSync(at('server.pem'), issued.certificate);
};
const environment = () => ({
  RUSTY_KETTLE_TLS_CERTIFICATE_FILE: at('server.pem'),
  RUSTY_KETTLE_TLS_KEY_FILE: at('server.key'),
  RUSTY_KETTLE_TLS_CLIENT_CERTIFICATES: 'on',
  RUSTY_KETTLE_TLS_CLIENT_CA_FILE: at('clients.pem'),
});

beforeAll(async () => {
  [authority, stranger] = await Promise.all([makeAuthority('Saltmarsh'), makeAuthority('Elsewhere')]);
  [server, later] = [await authority.issue('tokens.saltmarsh.test', 'server'), await authority.issue('tokens.saltmarsh.test', 'server')];
  writeFileSync(at('clients.pem'), authority.certificate);
  place(server);
  standin = await startUnderTest('wharfpost', 3_600);
  const send = client();
  service = await startService({ databaseUrl: await newDatabase(), environment: environment(), send });
  call = await signIn(service, 'marit', send);
  await call('addProvider', { body: { document: standin.definitionText } });
  await addClient(call, standin, 'counter', { provider: 'wharfpost' });
  await call('addConnection', {
    body: { name: 'parcels', provider: 'wharfpost', client: 'counter', scopes: ['parcels'], placeholders: { account: '40017788' } },
  });
  callers = { nightly: '', board: '' };
  for (const name of ['nightly', 'board'] as const) callers[name] = (await call('addCaller', { body: { name, connections: ['parcels'] } })).caller_id;
}, LONG);
afterAll(async () => {
  await service?.stop();
  await standin?.stop();
  if (service) removeFolder(service.folder);
  removeFolder(home);
});

const token = async (send: typeof fetch, form: Record<string, string> = {}) => {
  const response = await send(`${service.url}/oauth/token`, { method: 'POST', body: new URLSearchParams({ grant_type: 'client_credentials', ...form }) });
  const body = (await response.json()) as { access_token?: string; error?: string; error_description?: string };
  return [response.status, body.access_token === undefined ? (body.error_description ?? body.error) : 'token'];
};
/** The fingerprint of the certificate that is served. */
const served = () =>
  new Promise<string>((resolve, reject) => {
    const socket = connect({ port: Number(new URL(service.url).port), host: '127.0.0.1', ca: authority.certificate }, () => {
      resolve(socket.getPeerX509Certificate()?.fingerprint256 ?? '');
      socket.destroy();
    });
    socket.once('error', reject);
  });

test('TLS 1.2 is offered with authenticated ciphers only', async () => {
  const handshake = (ciphers: string) =>
    new Promise<string>((resolve) => {
      const port = Number(new URL(service.url).port);
      const socket = connect({ port, host: '127.0.0.1', ca: authority.certificate, maxVersion: 'TLSv1.2', ciphers }, () => {
        resolve(socket.getCipher().name);
        socket.destroy();
      });
      socket.once('error', () => resolve('refused'));
    });
  const suites = ['ECDHE-RSA-AES128', 'ECDHE-ECDSA-AES128', 'ECDHE-RSA-AES256', 'ECDHE-ECDSA-AES256'];
  expect(await handshake(suites.map((one) => `${one}-GCM-SHA${one.endsWith('128') ? 256 : 384}`).join(':'))).toMatch(/-GCM-/);
  expect(await handshake([...suites.map((one) => `${one}-SHA`), 'AES128-SHA', 'AES256-SHA256'].join(':'))).toBe('refused');
});

test('API and rk over HTTPS: addresses begin with https, and cookies are secure', { timeout: LONG }, async () => {
  const signed = await client()(`${service.url}/api/v1/session`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ name: 'marit', password: PASSWORD }),
  });
  expect([signed.status, signed.headers.get('set-cookie')]).toEqual([200, expect.stringMatching(/; Secure/)]);
  const { redirect_uri } = await call('showClient', { params: { provider: 'wharfpost', client: 'counter' } });
  expect(redirect_uri).toBe(`${service.url}/oauth/callback/wharfpost/counter`);
  const environment = { RUSTY_KETTLE_URL: service.url, RUSTY_KETTLE_TOKEN: call.token, NODE_EXTRA_CA_CERTS: at('clients.pem') };
  const shown = await rk(['connection', 'list', '--output', 'json'], { home, environment });
  expect([shown.err, shown.code, JSON.parse(shown.out).items[0].name]).toEqual(['', 0, 'parcels']);
  await expect(fetch(service.url.replace('https', 'http'))).rejects.toThrow();
});

test('a registered certificate is a caller, and no other is; a subject counts where an authority of ours signed it', { timeout: LONG }, async () => {
  const [own, other, forged] = [
    await stranger.issue('nightly.saltmarsh.test', 'client'),
    await authority.issue('board.saltmarsh.test', 'client'),
    await stranger.issue('board.saltmarsh.test', 'client'),
  ];
  expect(await token(client(own))).toEqual([401, expect.stringContaining('No caller is registered for this certificate')]);
  await call('addIdentity', { params: { caller: 'nightly' }, body: { kind: 'certificate', certificate: own.certificate } });
  await call('addIdentity', { params: { caller: 'board' }, body: { kind: 'certificate', subject: 'CN=board.saltmarsh.test' } });
  const known = await eventually(async () => ((await token(client(own)))[0] === 401 ? null : client(own)), HEARD_MS);
  // The draft connection answers for the caller: it is known, and has nothing to fetch yet.
  expect(await token(known)).toEqual([400, expect.stringContaining('Nobody has consented')]);
  for (const [what, send, wanted] of [
    ['none', client(), 401],
    ['of a stranger, with the subject of a known one', client(forged), 401],
    ['of the authority, by its subject', client(other), 400],
    ['another caller\u2019s ID', client(own), 401],
  ] as const)
    expect([what, (await token(send, what.includes('ID') ? { client_id: callers.board } : {}))[0]]).toEqual([what, wanted]);
  await call('openConnection', { params: { connection: 'parcels' } });
  expect(await eventually(async () => ((await token(known))[0] === 200 ? 'token' : null), HEARD_MS)).toBe('token');
});

test('a renewed certificate is served without a restart; one that cannot be used leaves the former', { timeout: LONG }, async () => {
  expect(await served()).toBe(new X509Certificate(server.certificate).fingerprint256);
  place(later);
  const renewed = new X509Certificate(later.certificate).fingerprint256;
  await eventually(async () => (await served()) === renewed, 40_000);
  writeFileSync(at('server.pem'), 'not a certificate');
  await eventually(async () => service.output().includes('http.certificate_unreadable'), 40_000);
  expect(await served()).toBe(renewed);
  place(later);
});

test('what does not fit together is said at the start', { timeout: LONG }, async () => {
  const start = async (more: Record<string, string>) => {
    const { code, err } = await rk(['serve'], { home, environment: { RUSTY_KETTLE_DATA_FOLDER: join(home, 'data'), ...more } });
    return [code === 0, err];
  };
  const { RUSTY_KETTLE_TLS_KEY_FILE: key, RUSTY_KETTLE_TLS_CERTIFICATE_FILE: certificate } = environment();
  writeFileSync(at('other.key'), (await authority.issue('x', 'server')).key);
  for (const [more, says] of [
    [{ RUSTY_KETTLE_TLS_KEY_FILE: key }, 'belong together'],
    [{ RUSTY_KETTLE_TLS_CLIENT_CERTIFICATES: 'on' }, 'need RUSTY_KETTLE_TLS_CERTIFICATE_FILE'],
    [{ RUSTY_KETTLE_TLS_KEY_FILE: key, RUSTY_KETTLE_TLS_CERTIFICATE_FILE: certificate, RUSTY_KETTLE_PUBLIC_URL: 'http://127.0.0.1:1' }, 'must be https'],
    [
      { ...environment(), RUSTY_KETTLE_CLIENT_CERTIFICATE_HEADER: 'Client-Cert', RUSTY_KETTLE_TRUSTED_PROXIES: '1' },
      'Certificates of callers would come in two ways',
    ],
    [{ RUSTY_KETTLE_TLS_KEY_FILE: at('other.key'), RUSTY_KETTLE_TLS_CERTIFICATE_FILE: certificate }, 'cannot be used'],
    [{ RUSTY_KETTLE_TLS_KEY_FILE: at('nowhere'), RUSTY_KETTLE_TLS_CERTIFICATE_FILE: certificate }, 'cannot be read'],
  ] as [Record<string, string>, string][])
    expect(await start(more)).toEqual([false, expect.stringContaining(says)]);
});
