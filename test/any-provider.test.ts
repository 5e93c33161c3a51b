import { createServer, type Server } from 'node:http';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { parse } from 'yaml';
import type { ApiClient } from '../src/api/client.ts';
import type { BodyOf } from '../src/api/operations.ts';
import { Browser, playConsent, registerAtStandin } from '../src/standins/visitor.ts';
import { PASSWORD, removeFolder, rk, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addClient, addConnection, agree, fetchToken, type StandinUnderTest, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** A provider that nobody prepared, a definition that changes while it is in use, and attempts to lead a secret astray. */
let [service, call, berthline, notchboard, odd, oddUrl] = [] as unknown as [
  ServiceUnderTest,
  ApiClient & { token: string },
  StandinUnderTest,
  StandinUnderTest,
  Server,
  string,
];
const received: string[] = [];
const draft = (body: BodyOf<'draftProvider'>) => call('draftProvider', { body });
beforeAll(async () => {
  service = await startService({ databaseUrl: await newDatabase() });
  call = await signIn(service);
  expect((await rk(['sign-in', '--url', service.url, '--name', 'marit'], { home: service.folder, input: PASSWORD })).code).toBe(0);
  [berthline, notchboard] = await Promise.all([startUnderTest('berthline', 3600), startUnderTest('notchboard', 3600)]);
  odd = createServer((request, response) => {
    let body = '';
    request.on('data', (part) => (body += part));
    request.on('end', () => {
      received.push(`${request.method} ${request.url} ${request.headers.authorization ?? ''} ${body}`);
      const path = request.url ?? '';
      const json = (status: number, value: unknown, headers = {}) =>
        response.writeHead(status, { 'content-type': 'application/json', ...headers }).end(JSON.stringify(value));
      if (path.startsWith('/other/')) return json(200, { issuer: 'https://id.someone-else.example', token_endpoint: 'https://id.somebody-else.example/token' });
      if (path.startsWith('/inside/')) return response.writeHead(302, { location: 'http://169.254.10.10/latest' }).end();
      if (path.startsWith('/round/')) return response.writeHead(302, { location: path }).end();
      if (path.startsWith('/huge/')) return response.end('x'.repeat(50_000_000));
      if (path.startsWith('/html/')) return response.end('<html>Sign in first</html>');
      return json(404, {});
    });
  });
  await new Promise<void>((resolve) => odd.listen(0, '127.0.0.1', resolve));
  oddUrl = `http://127.0.0.1:${(odd.address() as { port: number }).port}`;
});
afterAll(async () => {
  odd.close();
  await service.stop();
  await berthline.stop();
  await notchboard.stop();
  removeFolder(service.folder);
});

test('an issuer as it is typed: metadata, sources, endpoints that answer, and what is missing', async () => {
  const seen = await draft({ from: 'issuer', address: `${berthline.origin}/ `, name: 'by-issuer' });
  expect(seen).toMatchObject({ ready: false, missing: ['the address of an API'], tidied: [expect.stringContaining('Spaces')], exists: false });
  expect(seen.values.find((one) => one.path === 'server.token_endpoint')).toMatchObject({
    value: `${berthline.origin}/token`,
    source: `${berthline.origin}/.well-known/openid-configuration`,
  });
  // A request without a client is rejected there: that says nothing good of the address, and is not called good.
  expect(seen.endpoints.map((one) => [one.endpoint, one.good])).toEqual([
    ['authorization_endpoint', false],
    ['token_endpoint', true],
  ]);
  const whole = await draft({ from: 'issuer', address: berthline.origin, api_call: `${berthline.origin.replace('id.', 'api.')}/v1/berths` });
  expect([whole.ready, whole.wrong]).toEqual([true, []]);
  expect((await call('addProvider', { body: { document: whole.document } })).ready).toEqual([]);
});

test.each([
  { name: 'another issuer inside', path: '/other', code: 'METADATA_WRONG', says: 'names the issuer https://id.someone-else.example' },
  { name: 'a redirect to a private address', path: '/inside', code: 'DOCUMENT_UNREADABLE', says: 'is no https address' },
  { name: 'a redirect round and round', path: '/round', code: 'DOCUMENT_UNREADABLE', says: 'redirects more than 3 times' },
  { name: '50 MB', path: '/huge', code: 'DOCUMENT_UNREADABLE', says: 'larger than 5 MB' },
  { name: 'a page', path: '/html', code: 'DOCUMENT_UNREADABLE', says: 'is not JSON' },
  { name: 'nothing', path: '/none', code: 'DOCUMENT_UNREADABLE', says: 'answered 404' },
])('metadata with $name is rejected, with a remedy', async ({ path, code, says }) => {
  await expect(draft({ from: 'issuer', address: `${oddUrl}${path}` })).rejects.toMatchObject({
    problem: { code, detail: expect.stringContaining(says), remedy: expect.any(String) },
  });
});

test('an address that is private by its name or automatically is not called', async () => {
  for (const address of ['https://10.0.0.1', 'https://[fd00::1]', 'https://169.254.169.254'])
    await expect(draft({ from: 'issuer', address })).rejects.toMatchObject({
      problem: { code: 'DOCUMENT_UNREADABLE', detail: expect.stringContaining('private one') },
    });
});

test('an OpenAPI file: its operations are kept, the weakest scopes for the ticked ones are chosen, and a weaker client is proposed', async () => {
  const api = berthline.origin.replace('id.', 'api.');
  const openapi = {
    openapi: '3.0.3',
    info: { title: 'Berth book' },
    servers: [{ url: `${api}/v1` }],
    components: {
      securitySchemes: {
        berth: {
          type: 'oauth2',
          flows: {
            authorizationCode: {
              authorizationUrl: `${berthline.origin}/authorize`,
              tokenUrl: `${berthline.origin}/token`,
              scopes: { 'bookings.read': 'Read', 'bookings.write': 'Write', profile: 'You' },
            },
          },
        },
      },
    },
    security: [{ berth: ['bookings.read'] }, { berth: ['bookings.write'] }],
    paths: {
      '/berths': { get: { operationId: 'listBerths' } },
      '/bookings': { get: { operationId: 'listBookings' }, post: { operationId: 'book', security: [{ berth: ['bookings.write'] }] } },
    },
  };
  const seen = await draft({ from: 'openapi', document: JSON.stringify(openapi), name: 'berth-book' });
  expect([seen.ready, seen.wrong]).toEqual([true, []]);
  const document = seen.document
    .replace('server:\n', 'server:\n  token_endpoint_auth_methods_supported: [client_secret_post]\n')
    .concat('dialect: { offline_parameter: { name: stay, value: moored } }\n');
  await call('addProvider', { body: { document } });
  const chosen = await call('chooseScopes', { params: { provider: 'berth-book' }, body: { operations: ['listBerths', 'listBookings'] } });
  expect(chosen).toMatchObject({ scopes: ['bookings.read'], chosen: [{ alternatives: [['bookings.read'], ['bookings.write']] }, {}] });
  for (const [name, scopes] of [
    ['strong', ['bookings.read', 'bookings.write']],
    ['reader', ['bookings.read']],
  ] as const) {
    await addClient(call, berthline, name, { provider: 'berth-book' });
    const { revision } = await call('showClient', { params: { provider: 'berth-book', client: name } });
    await call('changeClient', { params: { provider: 'berth-book', client: name }, body: { revision, registered_scopes: [...scopes] } });
  }
  const added = await call('addConnection', {
    body: { name: 'berth-list', provider: 'berth-book', client: 'strong', scopes: ['bookings.read'], operations: ['listBerths'] },
  });
  expect([added.weaker_client, added.operations_lacking]).toEqual(['reader', []]);
  const more = await call('changeConnection', { params: { connection: 'berth-list' }, body: { revision: added.revision, operations: ['listBerths', 'book'] } });
  expect([more.weaker_client, more.operations_lacking]).toEqual([null, ['book']]);
  expect((await agree(call, 'berth-list')).outcome).toMatchObject({ phase: 'done', first_call: { status: 200 } });
  await expect(
    call('changeConnection', { params: { connection: 'berth-list' }, body: { revision: more.revision, operations: ['nonsense'] } }),
  ).rejects.toMatchObject({ problem: { places: [{ path: 'operations' }] } });
});

test('a definition file is checked with line, reason and remedy, by API and rk; aliases that explode and unknown placeholders too', async () => {
  const text = berthline.definitionText;
  for (const [from, to, path, why] of [
    ['issuer: http://id.{region}', 'issuer: http://id.{regoin}', 'server.issuer', '{regoin} is not among the placeholders'],
    ['issuer: http://id.{region}.berthline', 'issuer: http://{region}-id.berthline', 'server.issuer', 'one whole label'],
    ['issuer: http://', 'issuer: ftp://', 'server.issuer', 'absolute https address'],
    ['desk.{region}', 'desk.north', 'placeholders.0.pages', 'Each holds {region}'],
    ['name: bookings.write', 'name: bookings.write, nmae: x', 'scopes.1.nmae', 'nmae'],
  ] as const) {
    expect(text).toContain(from);
    const checking = call('checkProvider', { body: { document: text.replace(from, to) } });
    await expect(checking).rejects.toMatchObject({
      problem: {
        code: 'DEFINITION_INVALID',
        remedy: expect.any(String),
        places: expect.arrayContaining([{ path, line: expect.any(Number), why: expect.stringContaining(why) }]),
      },
    });
  }
  await expect(call('checkProvider', { body: { document: 'a: &a [x]\nb: [*a, *a]' } })).rejects.toMatchObject({
    problem: { detail: expect.stringContaining('aliases') },
  });
  const asked = await call('checkProvider', { body: { document: notchboard.definitionText, ask_endpoints: true } });
  expect(asked.endpoints.map((one) => one.good)).toEqual([false, true]);
});

test('a definition in use: what changes for whom is shown first, the old version is kept, and nothing breaks', async () => {
  const provider = 'berthline';
  await call('addProvider', { body: { document: berthline.definitionText } });
  await addClient(call, berthline, 'harbour', { provider, placeholders: { region: 'north' } });
  await addConnection(call, 'berths', ['bookings.read', 'profile'], 'harbour', provider);
  await agree(call, 'berths');
  const changed = berthline.definitionText
    .replace('reuse: kills_grant', 'reuse: refused')
    .replace('  - { name: bookings.write, says: Book and cancel berths, power: write }\n', '');
  const preview = await call('previewProvider', { params: { provider }, body: { document: changed } });
  expect(preview.changes.map((one) => one.path)).toEqual(['scopes.bookings.write', 'dialect.reuse']);
  expect(preview.effects).toEqual([{ client: 'berthline/harbour', connections: 1, says: ['From the next renewal on: reuse is refused.'] }]);
  await expect(call('changeProvider', { params: { provider }, body: { document: changed, revision: preview.revision + 1 } })).rejects.toMatchObject({
    problem: { code: 'REVISION_CONFLICT' },
  });
  expect((await call('showProvider', { params: { provider } })).definition.dialect.reuse).toBe('kills_grant');
  expect((await call('changeProvider', { params: { provider }, body: { document: changed, revision: preview.revision } })).definition.dialect.reuse).toBe(
    'refused',
  );
  const { items } = await call('listVersions', { params: { provider } });
  expect(items.map((one) => [one.current, parse(one.document).dialect.reuse])).toEqual([
    [true, 'refused'],
    [false, 'kills_grant'],
  ]);
  expect(await call('renewConnection', { params: { connection: 'berths' } })).toMatchObject({ state: 'working', renewals: 1 });
  for (const [document, why] of [
    [changed.replace('[client_secret_post]', '[private_key_jwt]'), 'authenticates by client_secret_post'],
    [changed.replace('name: berthline', 'name: berthlane'), 'names never change'],
    [changed.replace('    says: Where', '    level: connection\n    says: Where'), '1 connections of berthline/harbour have no value for region'],
  ] as const) {
    const { refused, revision } = await call('previewProvider', { params: { provider }, body: { document } });
    expect(refused.join(' ')).toContain(why);
    await expect(call('changeProvider', { params: { provider }, body: { document, revision } })).rejects.toMatchObject({
      problem: { code: 'DEFINITION_IN_USE' },
    });
  }
});

test('a thief with an operator\u2019s session, but without the password, gets neither secret nor token by an edited address or a placeholder', async () => {
  const provider = 'berthline';
  const params = { provider, client: 'harbour' };
  const { items } = await call('listVersions', { params: { provider } });
  const document = items[0]?.document ?? '';
  received.length = 0;
  const [secret] = (await call('showClient', { params })).secrets;
  // Someone is at the provider's page while the definition is changed behind their back.
  const away = await call('openConnection', { params: { connection: 'berths' } });
  const browser = new Browser();
  const { endedAt } = await playConsent(away.start_url, { stopBeforeCallback: true }, browser);
  for (const edit of [
    (text: string) => text.replace(/token_endpoint: .*/, `token_endpoint: ${oddUrl}/token`),
    (text: string) => text.replace(/base_url: .*/, `base_url: ${oddUrl}/v1`),
    (text: string) => text.replace(/endpoint: http:\/\/api.*/, `endpoint: ${oddUrl}/me`),
  ]) {
    const stolen = edit(document);
    expect(stolen).not.toBe(document);
    const preview = await call('previewProvider', { params: { provider }, body: { document: stolen } });
    expect(preview.effects[0]?.says.join(' ')).toContain(`would go to ${oddUrl}`);
    await call('changeProvider', { params: { provider }, body: { document: stolen, revision: preview.revision } });
    expect(await call('showClient', { params })).toMatchObject({
      state: 'stopped',
      unconfirmed_origins: [oddUrl],
      remedy: expect.stringContaining('your own password'),
    });
    for (const attempt of [
      () => call('renewConnection', { params: { connection: 'berths' } }),
      () => call('probeConnection', { params: { connection: 'berths' } }),
      () => call('callConnection', { params: { connection: 'berths' }, body: { path: '/berths' } }),
      () => call('openConnection', { params: { connection: 'berths' } }),
      () => call('confirmOrigins', { params, body: { password: 'guessed-wrong' } }),
      () => call('verifySecret', { params: { ...params, secret: secret?.id ?? '' } }),
      () => browser.fetch(endedAt),
    ])
      await attempt().catch((error) => expect(error.problem.code).toMatch(/ORIGIN_UNCONFIRMED|PASSWORD_WRONG/));
    await call('changeProvider', { params: { provider }, body: { document, revision: preview.revision + 1 } });
  }
  const { revision } = await call('showClient', { params });
  for (const region of ['north.evil.example/', 'evil.example#', '127.0.0.1', 'north@evil'])
    await expect(call('changeClient', { params, body: { revision, placeholders: { region } } })).rejects.toMatchObject({ problem: { code: 'INPUT_INVALID' } });
  await call('changeClient', { params, body: { revision, placeholders: { region: 'south' } } });
  expect((await call('showClient', { params })).unconfirmed_origins.length).toBeGreaterThan(0);
  await call('changeClient', { params, body: { revision: revision + 1, placeholders: { region: 'north' } } });
  expect(received).toEqual([]);
  await eventually(
    async () => (await call('renewConnection', { params: { connection: 'berths' } })).state === 'working',
    20_000,
    'it works again with the old addresses',
  );
});

test('a provider that really moved: its new address is confirmed with the password, and everything goes on', async () => {
  const provider = 'notchboard';
  const params = { provider, client: 'board' };
  await call('addProvider', { body: { document: notchboard.definitionText } });
  await addClient(call, notchboard, 'board', { provider });
  await addConnection(call, 'threads', ['read', 'keep'], 'board', provider);
  await agree(call, 'threads');
  const [current] = (await call('listVersions', { params: { provider } })).items;
  const moved = (current?.document ?? '').replaceAll(/http:\/\/api\.notchboard\.localhost/g, 'http://api.new.notchboard.localhost');
  const preview = await call('previewProvider', { params: { provider }, body: { document: moved } });
  await call('changeProvider', { params: { provider }, body: { document: moved, revision: preview.revision } });
  const caller = await call('addCaller', { body: { name: 'reader', connections: ['threads'] } });
  expect((await fetchToken(service.url, caller.caller_id, caller.key)).body.base_url).toBeUndefined();
  expect((await call('confirmOrigins', { params, body: { password: PASSWORD } })).unconfirmed_origins).toEqual([]);
  expect((await call('renewConnection', { params: { connection: 'threads' } })).state).toBe('working');
});

test('clients of the environments stand side by side, each with its own hosts; placeholders are composed and read from a page', async () => {
  const sandbox = await call('addClient', { body: { provider: 'notchboard', name: 'board-sandbox', environment: 'sandbox' } });
  expect(sandbox).toMatchObject({
    variant: 'sandbox',
    environment: 'sandbox',
    registration_page: expect.stringContaining('//sandbox.notchboard'),
    reach: 'listed',
    reach_says: expect.stringContaining('warning page'),
  });
  expect(sandbox.addresses.find((one) => one.what === 'Token')?.address).toContain('//sandbox.notchboard');
  const live = await call('showClient', { params: { provider: 'notchboard', client: 'board' } });
  expect(live.addresses.find((one) => one.what === 'Token')?.address).toContain('//notchboard');
  const composed = await call('composeProvider', {
    params: { provider: 'berthline' },
    body: { page_address: ` ${berthline.origin.replace('id.north', 'desk.south')}/today?x=1` },
  });
  expect(composed).toMatchObject({
    placeholders: { region: 'south' },
    read: ['region'],
    wrong: [],
    addresses: expect.arrayContaining([{ what: 'Token', address: expect.stringContaining('id.south') }]),
  });
  const open = await call('composeProvider', { params: { provider: 'berthline' }, body: { placeholders: { region: 'mars' } } });
  expect(open.wrong).toMatchObject([{ path: 'placeholders.region', why: expect.stringContaining('north, south') }]);
});

test('the guide of a client: its own values, ticks and purpose remembered, approval with dates and who asked', async () => {
  const params = { provider: 'notchboard', client: 'board' };
  const before = await call('showClient', { params });
  expect(before.guide[0]).toMatchObject({ done: false, missing: [], values: [{ name: 'redirect_uri', value: before.redirect_uri }] });
  const ticked = await call('changeClient', { params, body: { revision: before.revision, registering: { done: [before.guide[0]?.title ?? ''] } } });
  // The third brings ID and secret, which are entered.
  expect(ticked.guide.map((step) => step.done)).toEqual([true, false, true]);
  const registering = {
    requested_on: '2026-11-20',
    request_form: 'access request form',
    expected_on: '2026-12-04',
    notes: 'Ask Joss',
    own_page: 'https://notchboard.example/clients/7',
    registered_by: 'Marit Holm',
  };
  const asked = await call('changeClient', { params, body: { revision: ticked.revision, approval: 'requested', registering } });
  expect(asked).toMatchObject({ approval: 'requested', registering: { ...registering, done: ['Add the landing address, and save the list'] } });
  await expect(call('changeClient', { params, body: { revision: asked.revision, registering: { own_page: 'javascript:alert(1)' } } })).rejects.toMatchObject({
    problem: { code: 'INPUT_INVALID' },
  });
  const { items } = await call('listHistory', { query: { subject: 'client:notchboard/board' } });
  expect(items.map((one) => one.says)).toContain('Approval: not needed became requested.');
  const guide = await rk(['client', 'guide', 'notchboard/board', '--untick', '1', '--tick', '2'], {
    home: service.folder,
    environment: { RUSTY_KETTLE_URL: service.url },
  });
  expect([guide.code, guide.out]).toEqual([0, expect.stringMatching(/\u00b7 1\. Add the landing[\s\S]*\u2713 2\. Open it/)]);
});

test('reach and approval are shown, and what they cost is said before anybody consents', async () => {
  const params = { provider: 'notchboard', client: 'board' };
  const { revision } = await call('showClient', { params });
  const listed = await call('changeClient', {
    params,
    body: { revision, reach: 'listed', listed_accounts: ['marit.holm@saltmarsh.example'], approval: 'requested' },
  });
  expect(listed).toMatchObject({ state: 'requested', approval: 'requested', listed_accounts: ['marit.holm@saltmarsh.example'] });
  await call('addConnection', {
    body: { name: 'joss-threads', provider: 'notchboard', client: 'board', scopes: ['read'], expected_account: 'joss.tarrant@saltmarsh.example' },
  });
  const opened = await call('openConnection', { params: { connection: 'joss-threads' } });
  expect(opened.warnings).toEqual([expect.stringContaining('warning page')]);
  expect(opened.ready).toMatchObject({ ready: false, says: expect.stringContaining('not among the listed accounts') });
});

test('a public client says who it is without any secret', async () => {
  const open = await startUnderTest('berthline', 3600, (text) =>
    text
      .replace('name: berthline', 'name: openline')
      .replace('[client_secret_post]', '[none]')
      .replace('  note: Register in', '  client_types: [public]\n  note: Register in'),
  );
  await call('addProvider', { body: { document: open.definitionText } });
  const draft = await call('addClient', { body: { provider: 'openline', name: 'pocket', placeholders: { region: 'north' } } });
  expect([draft.type, draft.method, draft.missing]).toEqual(['public', 'none', ['the client id']]);
  const there = await registerAtStandin(draft.registration_page ?? '', 'Pocket', draft.redirect_uri);
  await call('changeClient', { params: { provider: 'openline', client: 'pocket' }, body: { revision: 1, client_id: there.id } });
  await addConnection(call, 'pocket', ['bookings.read', 'profile'], 'pocket', 'openline');
  expect((await agree(call, 'pocket')).outcome).toMatchObject({ phase: 'done', refresh_token: true });
  expect(await call('renewConnection', { params: { connection: 'pocket' } })).toMatchObject({ state: 'working', renewals: 1 });
  await open.stop();
});

test('rk does the same: draft, change with its effects, versions, schema, secrets; and says why with an exit code', async () => {
  const home = service.folder;
  const run = (...args: string[]) => rk(args, { home, environment: { RUSTY_KETTLE_URL: service.url } });
  const nothing = await run('provider', 'draft');
  expect([nothing.code, nothing.err]).toEqual([2, expect.stringContaining('--issuer')]);
  const short = await run('provider', 'draft', '--token-url', `${berthline.origin}/token`, '--scopes', 'a,b');
  expect([short.code, short.out]).toEqual([1, expect.stringContaining('Not ready  Missing: the address of an API')]);
  expect(JSON.parse((await run('provider', 'schema')).out)).toMatchObject({ title: 'Rusty Kettle provider definition' });
  expect((await run('provider', 'versions', 'berthline')).out).toContain('current');
  expect((await run('provider', 'scopes', 'berth-book', 'listBerths', 'book')).out).toMatch(/Scopes: bookings.write/);
  expect((await run('client', 'secret', 'list', 'berthline/harbour')).out).toMatch(/active/);
  const prove = await run('client', 'secret', 'verify', 'berthline/harbour', '0190a0a0-0000-7000-8000-000000000000');
  expect([prove.code, prove.err]).toEqual([4, expect.stringContaining('no such secret')]);
  const revoked = await run('connection', 'revoke', 'threads', '--yes');
  expect([revoked.code, revoked.out]).toEqual([0, expect.stringContaining('revoked it')]);
});
