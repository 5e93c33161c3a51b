import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { exportJWK, generateKeyPair, type JWTPayload, SignJWT } from 'jose';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { makeCertificate } from '../testing/certificate.ts';
import { newFolder, removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { addConnection, addEelgrass, agree, type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** Callers of which nothing secret is stored: two replicas, a trusted issuer, a proxy that passes certificates. */
const LONG = 90_000;
const TYPE = 'urn:ietf:params:oauth:client-assertion-type:jwt-bearer';
let [standin, service, second, issuer] = [] as unknown as [StandinUnderTest, ServiceUnderTest, ServiceUnderTest, Server];
let call: Awaited<ReturnType<typeof signIn>>;
let caller = { caller_id: '', key: '' };
let issuerUrl = '';
let published: object[] = [];
let fetches = 0;
const newKey = async (kid: string) => {
  const { privateKey, publicKey } = await generateKeyPair('ES256', { extractable: true });
  const jwk = { ...(await exportJWK(publicKey)), kid, alg: 'ES256' };
  return { jwk, sign: (claims: JWTPayload) => new SignJWT(claims).setProtectedHeader({ alg: 'ES256', kid }).sign(privateKey) };
};
let [own, cluster] = [] as unknown as [Awaited<ReturnType<typeof newKey>>, Awaited<ReturnType<typeof newKey>>];
let certificate = { certificate: '' };

beforeAll(async () => {
  standin = await startEelgrass(3_600);
  const databaseUrl = await newDatabase();
  const masterKey = Buffer.alloc(32, 7).toString('base64');
  const environment = { RUSTY_KETTLE_TRUSTED_PROXIES: '1', RUSTY_KETTLE_CLIENT_CERTIFICATE_HEADER: 'Client-Cert' };
  service = await startService({ databaseUrl, masterKey, environment });
  call = await signIn(service);
  second = await startService({ databaseUrl, masterKey, environment, publicUrl: service.url, folder: newFolder() });
  await addEelgrass(call, standin);
  await addConnection(call, 'sailings');
  await agree(call, 'sailings');
  caller = await call('addCaller', { body: { name: 'nightly', connections: ['sailings'] } });
  [own, cluster] = await Promise.all([newKey('own'), newKey('c1')]);
  published = [cluster.jwk];
  issuer = createServer((request, response) => {
    fetches += 1;
    response.setHeader('content-type', 'application/json');
    if (request.url === '/.well-known/openid-configuration') response.end(JSON.stringify({ issuer: issuerUrl, jwks_uri: `${issuerUrl}/keys` }));
    else response.end(JSON.stringify({ keys: published }));
  });
  await new Promise<void>((resolve) => issuer.listen(0, '127.0.0.1', resolve));
  issuerUrl = `http://127.0.0.1:${(issuer.address() as AddressInfo).port}`;
  certificate = await makeCertificate('nightly.saltmarsh.test');
}, LONG);
afterAll(async () => {
  issuer?.close();
  for (const one of [service, second]) await one?.stop();
  for (const one of [service, second]) if (one) removeFolder(one.folder);
  await standin?.stop();
});

const token = async (form: Record<string, string>, headers: Record<string, string> = {}, at = service) => {
  const response = await fetch(`${at.url}/oauth/token`, { method: 'POST', headers, body: new URLSearchParams({ grant_type: 'client_credentials', ...form }) });
  const body = (await response.json()) as { access_token?: string; error?: string; error_description?: string };
  return [response.status, body.access_token ? 'token' : `${body.error}: ${body.error_description}`] as const;
};
const ofOwn = (more: JWTPayload = {}) =>
  own.sign({
    iss: caller.caller_id,
    sub: caller.caller_id,
    aud: `${service.url}/oauth/token`,
    exp: Math.floor(Date.now() / 1000) + 120,
    jti: crypto.randomUUID(),
    ...more,
  });
const ofCluster = (more: JWTPayload = {}) =>
  cluster.sign({ iss: issuerUrl, sub: 'system:serviceaccount:nightly:report', aud: service.url, exp: Math.floor(Date.now() / 1000) + 3_600, ...more });
const assertion = (jwt: string) => ({ client_assertion_type: TYPE, client_assertion: jwt });

test('private_key_jwt: a registered public key, each assertion once on any replica, and nothing without it', async () => {
  expect(await token(assertion(await ofOwn()))).toEqual([401, expect.stringContaining('No caller is registered')]);
  await expect(call('addIdentity', { params: { caller: 'nightly' }, body: { kind: 'key', jwks: { keys: [{ ...own.jwk, d: 'private' }] } } })).rejects.toThrow();
  await call('addIdentity', { params: { caller: 'nightly' }, body: { kind: 'key', label: 'build', jwks: { keys: [own.jwk] } } });
  const jwt = await ofOwn();
  expect(await token(assertion(jwt))).toEqual([200, 'token']);
  expect(await token(assertion(jwt), {}, second)).toEqual([401, expect.stringContaining('used before')]);
  expect(await token({ ...assertion(await ofOwn()), client_id: caller.caller_id }, {}, second)).toEqual([200, 'token']);
  expect(await token({ ...assertion(await ofOwn()), client_id: 'rkc_other' })).toEqual([401, expect.stringContaining('client_id is another')]);
  expect(await token(assertion(await ofOwn({ sub: 'rkc_someone_else' })))).toEqual([401, expect.stringContaining('iss and sub')]);
  expect(await token(assertion(await ofOwn({ aud: 'https://elsewhere.test' })))).toEqual([401, expect.stringContaining('audience')]);
  expect(await token({ client_assertion: await ofOwn(), client_assertion_type: 'x' })).toEqual([400, expect.stringContaining('client_assertion_type')]);
  const basic = { authorization: `Basic ${Buffer.from(`${caller.caller_id}:${caller.key}`).toString('base64')}` };
  expect(await token(assertion(await ofOwn()), basic)).toEqual([400, expect.stringContaining('Authenticate once')]);
  const metadata = (await (await fetch(`${service.url}/.well-known/oauth-authorization-server`)).json()) as Record<string, string[]>;
  expect(metadata.token_endpoint_auth_methods_supported).toContain('private_key_jwt');
  expect(metadata.token_endpoint_auth_signing_alg_values_supported).not.toContain('HS256');
});

test('workload tokens of a trusted issuer: by claims, also at the relay; a new key of the issuer is found, strangers do not make us fetch without end', async () => {
  const claims = { sub: 'system:serviceaccount:nightly:*' };
  await call('addIdentity', { params: { caller: 'nightly' }, body: { kind: 'workload', issuer: issuerUrl, claims } });
  expect(await token(assertion(await ofCluster()))).toEqual([200, 'token']);
  expect(await token(assertion(await ofCluster({ sub: 'system:serviceaccount:other:report' })))).toEqual([
    401,
    expect.stringContaining('No caller is registered'),
  ]);
  expect(await token(assertion(await ofCluster({ aud: 'kubernetes' })))).toEqual([401, expect.stringContaining('audience')]);
  const relayed = await fetch(`${service.url}/relay/sailings/tables`, { headers: { authorization: `Bearer ${await ofCluster()}` } });
  expect(relayed.status).toBe(200);
  const stranger = await newKey('c1');
  const forged = await stranger.sign({
    iss: issuerUrl,
    sub: 'system:serviceaccount:nightly:report',
    aud: service.url,
    exp: Math.floor(Date.now() / 1000) + 60,
  });
  const before = fetches;
  for (let turn = 0; turn < 20; turn += 1) expect((await token(assertion(forged)))[0]).toBe(401);
  expect(fetches - before).toBeLessThanOrEqual(2);
  cluster = await newKey('c2');
  published = [cluster.jwk];
  expect(await token(assertion(await ofCluster()), {}, second)).toEqual([200, 'token']); // it has not fetched them yet
  const shown = await call('showCaller', { params: { caller: 'nightly' } });
  expect(shown.identities.map((one) => [one.kind, one.last_used_at !== null])).toEqual([
    ['key', true],
    ['workload', true],
  ]);
});

test('a certificate that the proxy passes: this one, by thumbprint; removed, it ends at once on all replicas', async () => {
  const header = { 'client-cert': `:${Buffer.from(certificate.certificate.replace(/-----[^-]+-----|\s/g, ''), 'base64').toString('base64')}:` };
  expect(await token({ client_id: caller.caller_id }, header)).toEqual([401, expect.stringContaining('No caller is registered for this certificate')]);
  await call('addIdentity', { params: { caller: 'nightly' }, body: { kind: 'certificate', certificate: certificate.certificate } });
  expect(await token({ client_id: caller.caller_id }, header)).toEqual([200, 'token']);
  expect(await token({}, { 'client-cert': encodeURIComponent(certificate.certificate) })).toEqual([200, 'token']);
  expect(await token({}, { 'client-cert': 'hello' })).toEqual([401, expect.stringContaining('cannot be read')]);
  const identity = (await call('showCaller', { params: { caller: 'nightly' } })).identities.find((one) => one.kind === 'certificate');
  await call('removeIdentity', { params: { caller: 'nightly', identity: identity?.id ?? '' } });
  expect((await token({ client_id: caller.caller_id }, header))[0]).toBe(401);
});

test('a key is rotated: the new one at once, the former one for the overlap', async () => {
  const made = await call('rotateKey', { params: { caller: 'nightly' }, body: { overlap_hours: 24 } });
  const by = (key: string) => token({ client_id: made.caller_id, client_secret: key });
  expect([await by(made.key), await by(caller.key)]).toEqual([
    [200, 'token'],
    [200, 'token'],
  ]);
  const ends = (await call('showCaller', { params: { caller: 'nightly' } })).keys.map((key) => key.retired_at !== null);
  expect(ends.sort()).toEqual([false, true]);
  const last = await call('rotateKey', { params: { caller: 'nightly' }, body: { overlap_hours: 0 } });
  expect([(await by(last.key))[0], (await by(made.key))[0], (await by(caller.key))[0]]).toEqual([200, 401, 401]);
});
