import { execFileSync } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { createServer, type Server } from 'node:http';
import { createServer as createHttpsServer } from 'node:https';
import { type AddressInfo, connect } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { addConnection, addEelgrass, agree, type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** An API that is reached through the company's proxy, with a certificate of the company's own authority. */
const folder = mkdtempSync(join(tmpdir(), 'rk-proxy-'));
const HOST = 'api.tideway.test';
let [service, standin, call, proxy, api] = [] as unknown as [ServiceUnderTest, StandinUnderTest, ApiClient, Server, Server];
const asked: string[] = [];
const portOf = (server: Server) => (server.address() as AddressInfo).port;
const listen = (server: Server) => new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));

beforeAll(async () => {
  const at = (name: string) => join(folder, name);
  const openssl = (...args: string[]) => execFileSync('openssl', args, { cwd: folder, stdio: 'ignore' });
  openssl('req', '-x509', '-newkey', 'rsa:2048', '-nodes', '-keyout', 'ca.key', '-out', 'ca.pem', '-subj', '/CN=Saltmarsh own authority', '-days', '2');
  openssl('req', '-newkey', 'rsa:2048', '-nodes', '-keyout', 'api.key', '-out', 'api.csr', '-subj', `/CN=${HOST}`, '-addext', `subjectAltName=DNS:${HOST}`);
  openssl(
    'x509',
    '-req',
    '-in',
    'api.csr',
    '-CA',
    'ca.pem',
    '-CAkey',
    'ca.key',
    '-CAcreateserial',
    '-out',
    'api.pem',
    '-days',
    '2',
    '-copy_extensions',
    'copy',
  );
  api = createHttpsServer({ key: readFileSync(at('api.key')), cert: readFileSync(at('api.pem')) }, (request, response) => {
    response
      .writeHead(200, { 'content-type': 'application/json' })
      .end(JSON.stringify({ tables: [], bearer: /^Bearer /.test(request.headers.authorization ?? '') }));
  });
  await listen(api);
  proxy = createServer();
  proxy.on('connect', (request, socket, head) => {
    asked.push(request.url ?? '');
    const through = connect(portOf(api), '127.0.0.1', () => {
      socket.write('HTTP/1.1 200 Connection established\r\n\r\n');
      through.write(head);
      through.pipe(socket).pipe(through);
    });
    for (const end of [through, socket]) end.on('error', () => end.destroy());
  });
  await listen(proxy);
  standin = await startEelgrass(600);
});
afterAll(async () => {
  await standin?.stop();
  for (const server of [proxy, api]) server?.close();
  rmSync(folder, { recursive: true, force: true });
});

const open = async (environment: Record<string, string>) => {
  service = await startService({ databaseUrl: await newDatabase(), environment });
  call = await signIn(service);
  await addEelgrass(call, {
    ...standin,
    definitionText: standin.definitionText.replace(/base_url: http:\/\/api\.eelgrass\.localhost:\d+\/v1/, `base_url: https://${HOST}/v1`),
  });
  await addConnection(call, 'sailings');
  await agree(call, 'sailings');
  const made = await call('addCaller', { body: { name: 'board', connections: ['sailings'] } });
  return fetch(`${service.url}/relay/sailings/tables`, { headers: { authorization: `Bearer ${made.caller_id}.${made.key}` } });
};
const close = async () => {
  await service.stop();
  removeFolder(service.folder);
};

test('HTTPS_PROXY and further certificate authorities are honoured, by the relay and by calls that are tried; loopback goes directly', async () => {
  const answer = await open({
    HTTPS_PROXY: `http://127.0.0.1:${portOf(proxy)}`,
    HTTP_PROXY: `http://127.0.0.1:${portOf(proxy)}`,
    NODE_EXTRA_CA_CERTS: join(folder, 'ca.pem'),
  });
  expect([answer.status, await answer.json()]).toEqual([200, { tables: [], bearer: true }]);
  expect((await call('callConnection', { params: { connection: 'sailings' }, body: { path: '/tables' } })).status).toBe(200);
  expect(new Set(asked)).toEqual(new Set([`${HOST}:443`])); // the stand-in on loopback was reached without it
  await close();
});

test('without the authority the certificate is not believed, and that is said; without the proxy the name does not resolve', async () => {
  const untrusted = await open({ HTTPS_PROXY: `http://127.0.0.1:${portOf(proxy)}` });
  expect([untrusted.status, await untrusted.json()]).toEqual([
    502,
    expect.objectContaining({ code: 'UPSTREAM_BROKE', detail: 'Its TLS certificate is not good.' }),
  ]);
  await close();
  const direct = await open({ NODE_EXTRA_CA_CERTS: join(folder, 'ca.pem') });
  expect([direct.status, ((await direct.json()) as { detail: string }).detail]).toEqual([502, 'The name of its host does not resolve.']);
  await close();
});
