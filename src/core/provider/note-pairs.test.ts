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
