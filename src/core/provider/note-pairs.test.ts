import { expect, test } from 'vitest';
import { ProviderDefinition } from './definition.ts';
import { readDay } from './note-pairs.ts';
import { sortNotes } from './shapes.ts';

const plain = ProviderDefinition.parse({
  name: 'desk',
  title: 'Desk',
  placeholders: [{ name: 'tenant', title: 'Tenant', pattern: '[a-z]{4,10}(-[0-9])?', example: 'harbour-7', pages: ['https://desk.example/t/{tenant}/apps'] }],
  server: { authorization_endpoint: 'https://id.desk.example/{tenant}/authorize', token_endpoint: 'https://id.desk.example/{tenant}/token' },
  apis: [{ name: 'desk', title: 'Desk', base_url: 'https://api.desk.example', probes: [] }],
  api_hosts: ['api.desk.example'],
});
const WANTED = {
  client_id: 'b7c1-204816',
  client_secret: 'q7Wb~2mZ0pLk9sXc4vTn8yRd',
  secret_ends: '2027-03-31',
  redirect_uri: 'https://kettle.saltmarsh.example/consent/callback',
};
const { client_id: id, client_secret: secret, secret_ends: ends, redirect_uri: back } = WANTED;

test.each<[form: string, notes: string]>([
  ['label: value', `Client ID: ${id}\nClient secret: ${secret}\nExpires: ${ends}\nRedirect URI: ${back}`],
  ['label = value, bulleted and quoted', `- client id = "${id}",\n* client secret = '${secret}'\n• expiry date = ${ends}\n- callback url = ${back}`],
  ['label, then the next line', `Application (client) ID\n${id}\n\nSecret value\n${secret}\nExpires on\n${ends}\nRedirect URIs\n${back}`],
  ['label with a colon, then the next line', `Client ID:\n${id}\nClient Secret:\n${secret}\nValid until:\n${ends}\nRedirect URL:\n${back}`],
  ['a table with tabs', `Client ID\t${id}\nClient secret\t\t${secret}\nExpiration date\t${ends}\nReply URL\t${back}`],
  ['aligned spaces', `OAuth 2.0 Client ID   ${id}\nClient secret         ${secret}\nExpires               ${ends}\nRedirect URI          ${back}`],
  ['.env', `# desk\nexport DESK_CLIENT_ID="${id}"\nDESK_CLIENT_SECRET=${secret}\nDESK_CLIENT_SECRET_EXPIRES=${ends}\nREDIRECT_URI=${back}`],
  ['JSON on one line', JSON.stringify({ client_id: id, client_secret: secret, client_secret_expires_at: ends, redirect_uris: [back] })],
  ['pretty JSON, nested', JSON.stringify({ web: { clientId: id, clientSecret: secret, expiresAt: ends, redirectUris: [back] } }, null, 2)],
  ['lines cut out of pretty JSON', `  "client_id": "${id}",\n  "client_secret": "${secret}",\n  "expires": "${ends}",\n  "redirect_uri": "${back}"`],
  ['an address after a space', `Client ID: ${id}\nClient secret: ${secret}\nExpires: ${ends}\nRedirect URI ${back}`],
  ['Windows line ends', `Client ID: ${id}\r\nClient secret: ${secret}\r\nExpires: ${ends}\r\nRedirect URI: ${back}\r\n`],
])('notes as %s are sorted', (_form, notes) => {
  const { items } = sortNotes(plain, notes);
  expect(Object.fromEntries(items.map((item) => [item.field, item.value]))).toEqual(WANTED);
});

test('long labels, and labels that say what a value is for, are not taken for others', () => {
  const { items, unsorted } = sortNotes(
    plain,
    ['Directory (tenant) ID: harbour-7', 'Secret ID: 11-22', 'Scopes\ttables.read tables.write', 'Notes from Tuesday', 'https://desk.example/t/quay/apps'].join(
      '\n',
    ),
  );
  expect(items.map((item) => [item.field, item.value])).toEqual([
    ['tenant', 'harbour-7'],
    ['secret_id', '11-22'],
    ['scopes', 'tables.read tables.write'],
    ['tenant', 'quay'],
  ]);
  expect(unsorted).toEqual([4]);
});

const worded = ProviderDefinition.parse({
  ...plain,
  placeholders: [],
  server: { authorization_endpoint: 'https://id.desk.example/authorize', token_endpoint: 'https://id.desk.example/token' },
  words: { redirect_uri: 'Return address', scope: 'Rights', client_id: 'Key number' },
  shapes: [{ of: 'audience', pattern: 'pm(:[a-z]+)+', says: 'pm:dir:staff' }],
});
test.each<[name: string, notes: string, expected: [field: string, value: string][], unsorted: number[]]>([
  ['an end date behind its label', 'Ends on 2027-03-01\nblah blah', [['secret_ends', '2027-03-01']], [2]],
  [
    'the same as the last line',
    'Key number: 12-34\nEnds on 2027-03-01',
    [
      ['client_id', '12-34'],
      ['secret_ends', '2027-03-01'],
    ],
    [],
  ], // prettier-ignore
  ['a date in words', 'Client secret expires on 1 March 2027', [['secret_ends', '1 March 2027']], []],
  ['a value with colons', 'audience pm:dir:staff', [['audience', 'pm:dir:staff']], []],
  ['the definition\u2019s own word for the redirect URI', 'Return address: https://a.example/back/', [['redirect_uri', 'https://a.example/back/']], []],
  ['the definition\u2019s own word for scopes', 'Rights: crew.read crew.write', [['scopes', 'crew.read crew.write']], []],
  ['a label without a value', 'Key number: 12-34\nExpires', [['client_id', '12-34']], [2]],
  ['a sentence about a secret', 'The secret must be kept by all.', [], [1]],
])('%s', (_name, notes, expected, unsorted) => {
  const sorted = sortNotes(worded, notes);
  expect({ items: sorted.items.map((item) => [item.field, item.value]), unsorted: sorted.unsorted }).toEqual({ items: expected, unsorted });
});

test.each([
  `${'a'.repeat(50)}${' '.repeat(19_000)}x`,
  ' '.repeat(20_000),
  `a${'='.repeat(19_000)}`,
  `a${'\t'.repeat(19_000)}b`,
  'a b '.repeat(5_000),
  `${'"'.repeat(19_000)} http://`,
])('a line of one kind of character is read at once: %#', (notes) => {
  const startedAt = performance.now();
  sortNotes(worded, notes);
  expect(performance.now() - startedAt).toBeLessThan(2_000); // it was 40 s; a starved machine has its share
});

test.each<[text: string, iso: string | null]>([
  ['2027-03-31', '2027-03-31T00:00:00.000Z'],
  ['2027-03-31T12:00:00Z', '2027-03-31T12:00:00.000Z'],
  ['31.3.2027', '2027-03-31T00:00:00.000Z'],
  ['3/31/2027', '2027-03-31T00:00:00.000Z'],
  ['31/3/2027, 10:15', '2027-03-31T00:00:00.000Z'],
  ['Mar 31, 2027', '2027-03-31T00:00:00.000Z'],
  ['Wednesday, 31 March 2027', '2027-03-31T00:00:00.000Z'],
  ['1806451200', '2027-03-31T00:00:00.000Z'],
  ['3/4/2027', null],
  ['31.2.2027', null],
  ['never', null],
  ['0', null],
])('the day %s is read as %s', (text, iso) => {
  const at = readDay(text);
  expect(at === null ? null : new Date(at).toISOString()).toBe(iso);
});
