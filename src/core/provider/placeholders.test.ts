import fc from 'fast-check';
import { expect, test } from 'vitest';
import { apiBaseAllowed } from './api-base.ts';
import { compareDefinitions } from './compare-definitions.ts';
import { ProviderDefinition, trustedOrigins, unconfirmedOrigins, withVariant } from './definition.ts';
import { fitsPattern, patternProblem } from './pattern.ts';
import { isHostSafe } from './placeholder-text.ts';
import { composeDefinition, placeholdersFrom } from './placeholders.ts';
import { misplaced, sortNotes } from './shapes.ts';
import { fitsPath } from './template.ts';

const base = {
  name: 'desk',
  title: 'Desk',
  placeholders: [
    { name: 'tenant', title: 'Tenant', pattern: '.{1,100}', example: 'acme', pages: ['https://pages.desk.example/t/{tenant}'] },
    {
      name: 'region',
      title: 'Region',
      choices: [
        { value: 'eu', title: 'Europe' },
        { value: 'us', title: 'America' },
      ],
    },
  ],
  server: { authorization_endpoint: 'https://{tenant}.desk.example/authorize', token_endpoint: 'https://id.{region}.desk.example/{tenant}/token' },
  apis: [{ name: 'api', title: 'API', base_url: 'https://api.desk.example/{tenant}/v1' }],
};
const definition = ProviderDefinition.parse(base);

test('whatever a placeholder is filled with, secret and token go to a host of the provider and nowhere else', () => {
  const nasty = fc.oneof(
    fc.constantFrom(
      'evil.example/',
      'a.evil.example#',
      '@evil.example',
      'x@evil.example',
      'evil.example\\',
      'a/../..',
      '..',
      '%2e%2e',
      'a?b',
      'a#b',
      'evil.example:443',
      'a b',
      '{region}',
      'x\r\nHost: evil',
      '\u0430cme',
    ),
    fc.string({ minLength: 1, maxLength: 30 }),
    fc.webUrl(),
    fc.domain(),
  );
  fc.assert(
    fc.property(nasty, fc.constantFrom('eu', 'us'), (tenant, region) => {
      let composed: ProviderDefinition;
      try {
        composed = composeDefinition(definition, { tenant, region });
      } catch {
        return; // rejected: nothing goes anywhere
      }
      const [authorize, token, api] = [composed.server.authorization_endpoint ?? '', composed.server.token_endpoint, composed.apis[0]?.base_url ?? ''].map(
        (address) => new URL(address),
      );
      expect(authorize?.hostname.endsWith('.desk.example') && authorize.hostname.split('.').length === 3).toBe(true);
      expect([token?.hostname, token?.pathname.endsWith('/token'), token?.pathname.split('/').length]).toEqual([`id.${region}.desk.example`, true, 3]);
      expect([api?.hostname, api?.pathname.endsWith('/v1'), api?.username]).toEqual(['api.desk.example', true, '']);
    }),
    { numRuns: 2000 },
  );
});

test.each([
  ['https://{tenant}.desk.example/x', true],
  ['https://id.{region}.desk.example', true],
  ['https://{tenant}.example', false],
  ['https://{tenant}', false],
  ['https://a-{tenant}.desk.example', false],
  ['https://desk.{tenant}.example', false],
  ['https://{tenant}.{region}.desk.example:8443/y', true],
])('%s is safe: %s', (address, safe) => expect(isHostSafe(address)).toBe(safe));

test.each([
  ['https://pages.desk.example/t/acme-7/settings?tab=1', { tenant: 'acme-7' }],
  ['https://id.us.desk.example/acme/login', { region: 'us', tenant: 'acme' }],
  ['https://id.mars.desk.example/acme/login', { tenant: 'acme' }],
  ['https://pages.desk.example.evil.example/t/acme', {}],
  ['https://other.example/t/acme', {}],
])('read from the page %s', (address, values) => expect(placeholdersFrom(definition, address)).toEqual(values));

test('variants change hosts and scopes; what is confirmed is the origin, so that any new one is seen', () => {
  const varied = ProviderDefinition.parse({
    ...base,
    scopes: [
      { name: 'a', says: 'a' },
      { name: 'b', says: 'b' },
    ],
    variants: [
      { name: 'sandbox', title: 'Sandbox', environments: ['sandbox'], server: { token_endpoint: 'https://id.sandbox.desk.example/token' }, scopes: ['a'] },
    ],
  });
  expect(withVariant(varied, 'live', null).server.token_endpoint).toContain('{region}');
  const sandbox = withVariant(varied, 'sandbox', null);
  expect([sandbox.server.token_endpoint, sandbox.scopes.length]).toEqual(['https://id.sandbox.desk.example/token', 1]);
  expect(unconfirmedOrigins(sandbox, trustedOrigins(varied))).toEqual(['https://id.sandbox.desk.example']);
  expect(trustedOrigins(varied)).toEqual(['https://api.desk.example', 'https://id.{region}.desk.example']);
});

test('a base URL from a token answer is taken only on the hosts listed', () => {
  const listed = { api_hosts: ['*.shard.desk.example', 'api.desk.example'] };
  for (const good of ['https://eu-1.shard.desk.example/v2', 'https://api.desk.example']) expect(apiBaseAllowed(listed, good)).toBe(true);
  for (const bad of [
    'https://shard.desk.example',
    'https://x.shard.desk.example.evil.example',
    'http://eu-1.shard.desk.example',
    'https://u@eu-1.shard.desk.example',
    'https://evil.example/.shard.desk.example',
    'https://eu-1.shard.desk.example/?x',
    'not an address',
  ])
    expect([bad, apiBaseAllowed(listed, bad)]).toEqual([bad, false]);
});

test('differences are named by what they are about, not by their place in a list', () => {
  const before = {
    scopes: [
      { name: 'a', power: 'read' },
      { name: 'b', power: 'read' },
    ],
    dialect: { rotation: 'never' },
  };
  const after = { scopes: [{ name: 'b', power: 'write' }], dialect: { rotation: 'never', pkce: 'none' } };
  expect(compareDefinitions(before, after)).toEqual([
    { path: 'scopes.a', from: '{"name":"a","power":"read"}', to: null },
    { path: 'scopes.b.power', from: 'read', to: 'write' },
    { path: 'dialect.pkce', from: null, to: 'none' },
  ]);
  fc.assert(
    fc.property(fc.jsonValue(), (value) => {
      expect(compareDefinitions(value, JSON.parse(JSON.stringify(value)))).toEqual([]);
    }),
  );
});

const shaped = ProviderDefinition.parse({
  ...base,
  shapes: [
    { of: 'client_id', pattern: 'cl-[0-9]{6}', says: 'cl- and six digits' },
    { of: 'client_secret', pattern: '[A-Za-z0-9~]{24}', says: '24 letters and digits' },
    { of: 'secret_id', pattern: '[0-9]{3}', says: 'three digits' },
    { of: 'tenant', pattern: 'acme-[a-z]{2}', says: 'acme- and two letters' },
  ],
  words: { client_id: 'Application number', tenant: 'Desk' },
});
test.each([
  { field: 'client_id', value: 'cl-123456', says: null },
  { field: 'client_id', value: 'acme-eu', says: 'looks like the Tenant (at the provider: Desk), not the client id (at the provider: Application number)' },
  { field: 'client_secret', value: '417', says: 'looks like the id of the secret (not its value), not the client secret' },
  { field: 'client_secret', value: 'hunter2', says: 'does not look like a client secret' },
  { field: 'audience', value: 'cl-123456', says: 'looks like the client id' },
  { field: 'audience', value: 'anything', says: null },
])('$value as $field: $says', ({ field, value, says }) => {
  const said = misplaced(shaped, field, value);
  if (says === null) expect(said).toBeNull();
  else expect(said).toContain(says);
});

test('a page of notes is sorted by shape, by label, and by addresses; what fits nothing is counted by its line', () => {
  const notes = [
    'Desk, registered by Marit',
    'Application number: cl-204816',
    '"q7Wb~2mZ0pLk9sXc4vTn8yRd",',
    'secret id = 417',
    'https://pages.desk.example/t/acme-eu/apps',
    'Scopes: a, b',
    '',
    'call Joss about it',
  ].join('\n');
  const { items, unsorted } = sortNotes(shaped, notes);
  expect(items.map((item) => [item.line, item.field, item.value])).toEqual([
    [2, 'client_id', 'cl-204816'],
    [3, 'client_secret', 'q7Wb~2mZ0pLk9sXc4vTn8yRd'],
    [4, 'secret_id', '417'],
    [5, 'tenant', 'acme-eu'],
    [6, 'scopes', 'a, b'],
  ]);
  expect(unsorted).toEqual([1, 8]);
  // The provider's word for a client itself takes no line from the words of its fields.
  const worded = { ...shaped, shapes: [], placeholders: [], words: { client: 'Key', client_id: 'Key id', client_secret: 'Key word' } };
  expect(sortNotes(worded, 'Key id: *7\nKey word: *8').items.map((item) => item.field)).toEqual(['client_id', 'client_secret']);
});

test('a pattern of the RE2 syntax is accepted, runs in linear time whatever it shows, and describes the whole value', () => {
  for (const bad of ['(x)\\1', '[a-z', '(?=a)b', '(?<!a)b']) expect(patternProblem(bad), bad).not.toBeNull();
  for (const good of ['[a-z]{1,40}', 'a+b*', '(sand|live)-[0-9]{4}', '[A-Za-z0-9+/=]{20,}']) expect(patternProblem(good), good).toBeNull();
  // A backtracking matcher would not come back from these.
  for (const hostile of ['(a+)+b', '(a|aa)*b', 'a{0,99}a{0,99}a{0,99}a{0,99}a{0,99}b']) expect(fitsPattern(hostile, 'a'.repeat(1_000)), hostile).toBe(false);
  expect(fitsPattern('a|b', 'ab')).toBe(false);
});

test('five placeholders side by side are rejected; with something between them a long address is read in linear time', () => {
  const PLAIN = {
    ...base,
    server: { authorization_endpoint: 'https://id.desk.example/authorize', token_endpoint: 'https://id.desk.example/token' },
    apis: [{ name: 'api', title: 'API', base_url: 'https://api.desk.example' }],
  };
  const names = ['a', 'b', 'c', 'd', 'e'];
  const placeholders = names.map((name) => ({ name, title: name, pattern: '[a-z0-9-]{1,80}' }));
  const withPages = (page: string) => ({ ...PLAIN, placeholders: [{ ...placeholders[0], pages: [page] }, ...placeholders.slice(1)] });
  const [adjacent, apart] = ['', '-'].map((between) => withPages(`https://desk.saltmarsh.example/${names.map((name) => `{${name}}`).join(between)}`));
  expect(ProviderDefinition.safeParse(adjacent).error?.issues.map((issue) => issue.message)).toContain(
    'Two placeholders stand side by side: put something between them.',
  );
  const read = ProviderDefinition.parse(apart);
  expect(placeholdersFrom(read, `https://desk.saltmarsh.example/${'-x'.repeat(900)}.`)).toEqual({ a: '-x', b: 'x', c: 'x', d: 'x' }); // minutes by backtracking
  expect(placeholdersFrom(read, 'https://desk.saltmarsh.example:443/one-two-3-4-5/home?x=1')).toEqual({ a: 'one', b: 'two', c: '3', d: '4', e: '5' });
});

test.each([
  ['/reports/{from}-{to}.{format}', '/reports/2026-11.csv', true],
  ['/reports/{from}-{to}.{format}', '/reports/2026.csv', false],
  ['/reports/{from}-{to}.{format}', `/reports/${'-'.repeat(4_000)}`, false], // 5.6 s by backtracking
  ['/a/{b}', '/a/', false],
  ['/a/{b}', '/a/b/c', false],
  ['/a/{b}/c', '/a/b/c', true],
  ['/a.b', '/axb', false],
  ['/{a}b{c}b', '/xbxb', true],
  ['/{a}b{c}b', '/bb', false],
])('an operation %s', (pattern, path, wanted) => expect(fitsPath(pattern, path), path.slice(0, 60)).toBe(wanted));
