import { readFileSync } from 'node:fs';
import { expect, test } from 'vitest';
import { stringify } from 'yaml';
import { judgeEndpoint } from './endpoint-check.ts';
import { fromMetadata, issuerOf, metadataAddresses } from './from-metadata.ts';
import { fromOpenApi } from './from-openapi.ts';
import { fromShortForm } from './from-short-form.ts';
import { definitionSchema } from './json-schema.ts';
import { readDefinition, readPlainDocument } from './read-definition.ts';
import { tidyAddress, tidyId, tidyScopes } from './tidy.ts';

const NAMED = { name: 'tern', title: 'Tern' };
const METADATA = {
  issuer: 'https://id.tern.example/t1',
  authorization_endpoint: 'https://id.tern.example/t1/go',
  token_endpoint: 'https://id.tern.example/t1/token',
  userinfo_endpoint: 'https://id.tern.example/t1/me',
  scopes_supported: ['openid', 'email', 'logs.read', 'logs.write'],
  token_endpoint_auth_methods_supported: ['tls_client_auth', 'private_key_jwt', 'client_secret_post'],
};

test('both well-known addresses, with and without a path (RFC 8414 §3.1, OpenID Connect Discovery §4), and back', () => {
  expect(metadataAddresses('https://id.tern.example/t1')).toEqual([
    'https://id.tern.example/t1/.well-known/openid-configuration',
    'https://id.tern.example/.well-known/oauth-authorization-server/t1',
  ]);
  for (const issuer of ['https://id.tern.example', 'https://id.tern.example/t1'])
    for (const address of metadataAddresses(issuer)) expect(issuerOf(address)).toBe(issuer);
  expect(issuerOf('https://id.tern.example/metadata.json')).toBeNull();
});

test('metadata becomes a draft with sources, lacks only an API, and another issuer inside is rejected', () => {
  const draft = fromMetadata(METADATA, 'https://id.tern.example/t1', 'the metadata', NAMED);
  expect(draft.missing).toEqual(['the address of an API']);
  expect(draft.sources['server.token_endpoint']).toBe('the metadata');
  expect(draft.sources['server.grant_types_supported']).toContain('assumed');
  expect(draft.document.server).toMatchObject({ token_endpoint_auth_methods_supported: ['private_key_jwt', 'client_secret_post'] });
  expect(draft.warnings.join(' ')).toContain('tls_client_auth');
  expect((draft.document.scopes as { name: string; power: string }[]).map((scope) => scope.power)).toEqual(['identity', 'identity', 'read', 'write']);
  expect(() => fromMetadata(METADATA, 'https://id.tern.example', 'x', NAMED)).toThrow(/names the issuer https:\/\/id.tern.example\/t1/);
  expect(() => fromMetadata([], null, 'x', NAMED)).toThrow(/not a JSON object/);
  const nasty = fromMetadata({ ...METADATA, token_endpoint: 'file:///etc/passwd' }, null, 'x', NAMED);
  expect([nasty.missing[0], nasty.warnings[0]]).toEqual(['the token URL', expect.stringContaining('token_endpoint')]);
});

const OPENAPI = {
  openapi: '3.1.0',
  info: { title: 'Tern logs', version: '1' },
  servers: [{ url: 'https://api.{Region}.tern.example/v1/', variables: { Region: { default: 'eu', enum: ['eu', 'us'] } } }],
  components: {
    securitySchemes: {
      oauth: {
        type: 'oauth2',
        flows: {
          authorizationCode: {
            authorizationUrl: 'https://id.tern.example/go',
            tokenUrl: 'https://id.tern.example/token',
            scopes: { 'logs.read': 'Read logs', 'logs.all': 'All of it' },
          },
          clientCredentials: { tokenUrl: 'https://id.tern.example/token', scopes: { 'logs.read': 'Read logs' } },
        },
      },
      oidc: { type: 'openIdConnect', openIdConnectUrl: 'https://id.tern.example/.well-known/openid-configuration' },
      key: { type: 'apiKey', in: 'header', name: 'x-key' },
      login: { type: 'http', scheme: 'basic' },
    },
  },
  security: [{ oauth: ['logs.read'] }],
  paths: {
    '/logs': {
      get: { operationId: 'list logs', summary: 'List logs' },
      post: { security: [{ oauth: ['logs.all'] }, { oauth: ['logs.read', 'logs.write'], key: [] }] },
    },
    '/logs/{id}': { get: { security: [] }, parameters: [] },
    'no slash': { get: {} },
  },
};
test('an OpenAPI document: schemes, server with variables, operations with the scopes each needs, alternatives kept', () => {
  const { draft, metadataAddress } = fromOpenApi(OPENAPI, 'the file', { name: 'tern', title: 'Tern' });
  expect(metadataAddress).toBe('https://id.tern.example/.well-known/openid-configuration');
  const definition = readDefinition(stringify(draft.document));
  expect(definition.placeholders).toMatchObject([{ name: 'region', choices: [{ value: 'eu' }, { value: 'us' }] }]);
  expect(definition.apis[0]).toMatchObject({ base_url: 'https://api.{region}.tern.example/v1', probes: [{ path: '/logs' }] });
  expect(definition.apis[0]?.operations.map((one) => [one.id, one.method, one.needs])).toEqual([
    ['list-logs', 'GET', [['logs.read']]],
    ['post-logs', 'POST', [['logs.all'], ['logs.read', 'logs.write']]],
    ['get-logs-id-', 'GET', []],
  ]);
  expect(definition.server.grant_types_supported).toEqual(['authorization_code', 'refresh_token', 'client_credentials']);
  expect(draft.warnings.join(' ')).toMatch(/static key in the header x-key.*HTTP basic.*GET \/logs/);
  expect(() => fromOpenApi({ swagger: '2.0' }, 'x', NAMED)).toThrow(/version 2.0/);
});

test('operations bring their parameters and a body to begin with: references followed, circles and endless products cut, nothing invented', () => {
  const wide = Object.fromEntries(Array.from({ length: 40 }, (_none, at) => [`m${at}`, { $ref: '#/components/schemas/Wide' }]));
  const document = {
    ...OPENAPI,
    components: {
      ...OPENAPI.components,
      parameters: {
        Limit: { name: 'limit', in: 'query', description: 'How many\nmore', schema: { type: 'integer', default: 20 } },
        'a/b': { name: 'x-tag', in: 'header', required: true, example: 'mine' },
      },
      schemas: {
        Log: {
          type: 'object',
          properties: {
            id: { type: 'string', readOnly: true },
            text: { type: 'string', example: 'low tide' },
            tags: { type: 'array', items: { type: 'string', enum: ['a', 'b'] } },
            of: { $ref: '#/components/schemas/Log' },
          },
        },
        Wide: { type: 'object', properties: wide },
        Circle: { $ref: '#/components/schemas/Circle' },
      },
    },
    paths: {
      '/logs/{log-id}': {
        parameters: [
          { name: 'log-id', in: 'path', required: true, schema: { type: 'string' } },
          { name: 'limit', in: 'query', description: 'of the path' },
        ],
        get: {
          parameters: [
            { $ref: '#/components/parameters/Limit' },
            { $ref: '#/components/parameters/a~1b' },
            { name: 'sid', in: 'cookie' },
            { $ref: 'https://elsewhere.example/x' },
          ],
        },
        put: { requestBody: { content: { 'application/vnd.tern+json': { schema: { $ref: '#/components/schemas/Log' } } } } },
        post: { requestBody: { content: { 'text/plain': { example: 'x' } } } },
        patch: { requestBody: { content: { 'application/json': { schema: { $ref: '#/components/schemas/Circle' } } } } },
        delete: { requestBody: { content: { 'application/json': { schema: { $ref: '#/components/schemas/Wide' } } } } },
      },
    },
  };
  const [get, post, put, patch, remove] = ['GET', 'POST', 'PUT', 'PATCH', 'DELETE'].map((method) =>
    readDefinition(stringify(fromOpenApi(document, 'x', { name: 'tern', title: 'Tern' }).draft.document)).apis[0]?.operations.find(
      (one) => one.method === method,
    ),
  );
  expect(get?.parameters).toEqual([
    { name: 'limit', in: 'query', required: false, says: 'How many', example: '20' },
    { name: 'x-tag', in: 'header', required: true, says: '', example: 'mine' },
    { name: 'log-id', in: 'path', required: true, says: '' },
  ]);
  expect(JSON.parse(put?.body_example ?? '')).toMatchObject({ text: 'low tide', tags: ['a'], of: { text: 'low tide' } });
  expect(JSON.parse(put?.body_example ?? '')).not.toHaveProperty('id');
  expect([post?.body_example, patch?.body_example, remove?.body_example?.length ?? 0]).toEqual([undefined, undefined, expect.any(Number)]);
});

test('documents that are huge, unfold without bound, or are neither YAML nor JSON are rejected', () => {
  const bomb = `openapi: 3.0.0\na: &a [x,x]\n${'bcdefghi'
    .split('')
    .map((name, at) => `${name}: &${name} [*${'abcdefgh'[at]},*${'abcdefgh'[at]}]`)
    .join('\n')}`;
  for (const [text, why] of [
    [bomb, /aliases/],
    ['{"a":', /neither YAML nor JSON/],
    ['x'.repeat(101), /longer than 100/],
  ] as const)
    expect(() => readPlainDocument(text, why.source.includes('100') ? 100 : 10_000, 'OPENAPI_WRONG')).toThrow(why);
});

test('the short form: four fields as people type them are a definition that is ready', () => {
  const draft = fromShortForm(
    {
      authorization_url: ' id.tern.example/go ',
      token_url: 'https://ID.tern.example/token,',
      api_call: 'GET api.tern.example/v1/logs?limit=1',
      scopes: '- logs.read  # to read\n- "logs.write"',
    },
    NAMED,
  );
  expect(draft.missing).toEqual([]);
  const definition = readDefinition(stringify(draft.document));
  expect(definition.server).toMatchObject({ authorization_endpoint: 'https://id.tern.example/go', token_endpoint: 'https://id.tern.example/token' });
  expect(definition.apis[0]).toMatchObject({ base_url: 'https://api.tern.example/v1', probes: [{ path: '/logs?limit=1' }] });
  expect(definition.scopes.map((scope) => scope.name)).toEqual(['logs.read', 'logs.write']);
  expect(draft.tidied.length).toBeGreaterThan(4);
  const forItself = fromShortForm({ authorization_url: '', token_url: 'https://id.tern.example/token', api_call: '', scopes: '' }, NAMED);
  expect([forItself.missing, (forItself.document.server as { grant_types_supported: string[] }).grant_types_supported]).toEqual([
    ['the address of an API'],
    ['client_credentials'],
  ]);
});

test.each([
  ['a b  c', ['a', 'b', 'c']],
  ['a,b;c | d', ['a', 'b', 'c', 'd']],
  ['["a","b"]', ['a', 'b']],
  ['{"a": "reads", "b": "writes"}', ['a', 'b']],
  ['* a \u2014 reads\n* b // writes\n1. c', ['a', 'b', 'c']],
  ["'a' `b` a", ['a', 'b']],
  ['https://api.tern.example/auth/logs.read email', ['https://api.tern.example/auth/logs.read', 'email']],
])('scopes pasted as %s', (typed, value) => expect(tidyScopes(typed).value).toEqual(value));

test('what was changed of an address or id is said; what is right stays as it is', () => {
  expect(tidyAddress('https://id.tern.example/go')).toEqual({ value: 'https://id.tern.example/go', changed: [] });
  expect(tidyAddress('<ID.Tern.example/Path#x>,')).toMatchObject({
    value: 'https://id.tern.example/Path',
    changed: [expect.any(String), expect.any(String), expect.any(String), expect.any(String)],
  });
  expect(tidyId('  "abc" ')).toEqual({ value: 'abc', changed: ['Spaces or quotes around it were taken away.'] });
});

const seen = (status: number, body = '') => ({ kind: 'answer' as const, status, headers: {}, body, cut: false, tookMs: 1 });
test.each([
  { endpoint: 'token_endpoint', outcome: seen(400, '{"error":"invalid_request"}'), good: true },
  { endpoint: 'token_endpoint', outcome: seen(401, '{"error":"invalid_client"}'), good: true },
  { endpoint: 'token_endpoint', outcome: seen(200, '<html>'), good: false },
  { endpoint: 'token_endpoint', outcome: seen(404), good: false },
  { endpoint: 'token_endpoint', outcome: seen(405), good: false },
  { endpoint: 'token_endpoint', outcome: seen(302), good: false },
  { endpoint: 'authorization_endpoint', outcome: seen(400, 'a page'), good: false },
  { endpoint: 'authorization_endpoint', outcome: seen(200, 'a page'), good: true },
  { endpoint: 'authorization_endpoint', outcome: seen(302), good: true },
  { endpoint: 'authorization_endpoint', outcome: seen(405), good: false },
  { endpoint: 'authorization_endpoint', outcome: { kind: 'unsent' as const, reason: 'dns', tookMs: 1 }, good: false },
] as const)('$endpoint that answers $outcome.status: $good', ({ endpoint, outcome, good }) =>
  expect(judgeEndpoint(endpoint, 'https://x.example', outcome).good).toBe(good),
);

test('the published JSON Schema is made from the format, and docs hold it', () => {
  const schema = definitionSchema() as { properties: Record<string, unknown>; required: string[]; additionalProperties: boolean };
  expect(Object.keys(schema.properties)).toEqual(expect.arrayContaining(['server', 'dialect', 'variants', 'guide', 'shapes']));
  expect([schema.additionalProperties, schema.required]).toEqual([false, ['name', 'title', 'server', 'apis']]);
  expect(JSON.parse(readFileSync(new URL('../../../docs/provider-definition.schema.json', import.meta.url), 'utf8'))).toEqual(schema);
});
