import fc from 'fast-check';
import { expect, test } from 'vitest';
import { type ApiCall, fillCall, namesIn, pathAndQuery, whyNoHeader, withoutOwnKeys } from './call.ts';
import { curlLine, headersSent, readCurl } from './curl.ts';
import { harOf, readHar } from './har.ts';
import { isPlainPath } from './path.ts';

const call = (more: Partial<ApiCall> = {}): ApiCall => ({ method: 'GET', path: '/x', query: [], headers: [], body: null, ...more });

test('names are filled in where they are known; a path stays one segment, a body stays JSON, other braces stay', () => {
  const composed = call({ path: '/t/{table}/rows', query: [{ name: 'q', value: '{q}' }], body: '{"a":"{text}","b":{c}}' });
  expect(namesIn(composed)).toEqual(['table', 'q', 'text', 'c']);
  const { call: filled, lacking } = fillCall(
    composed,
    [
      { name: 'q', says: '', value: 'fixed' },
      { name: 'table', says: '', value: null },
    ],
    { text: 'say "x"\n' },
  );
  expect([filled.path, filled.query[0]?.value, filled.body, lacking]).toEqual(['/t/{table}/rows', 'fixed', '{"a":"say \\"x\\"\\n","b":{c}}', ['table']]);
  expect(fillCall(composed, [], { table: '../a/b?c' }).call.path).toBe('/t/..%2Fa%2Fb%3Fc/rows');
});

test.each<[path: string, left: string]>([
  ['/rows?limit=2&api_key=own&since=3', '/rows?limit=2&since=3'],
  ['/rows?access_token=own', '/rows'],
  ['/rows?q=a?b', '/rows?q=a?b'],
  ['/tokens/rows', '/tokens/rows'],
])('a key that someone wrote into a call is left out, wherever it stands: %s', (path, left) => {
  const pairs = ['X-Api-Key', 'Authorization', 'password', 'Accept'].map((name) => ({ name, value: 'own' }));
  expect(withoutOwnKeys(call({ path, query: pairs, headers: pairs }))).toEqual(
    call({ path: left, query: [{ name: 'Accept', value: 'own' }], headers: [{ name: 'Accept', value: 'own' }] }),
  );
});

test('whatever is filled in, a JSON body stays JSON with that very text, and a path its number of segments', () => {
  fc.assert(
    fc.property(fc.string({ unit: 'grapheme', maxLength: 40 }), (value) => {
      const { call: filled } = fillCall(call({ path: '/a/{v}/b', body: '{"v":"{v}"}' }), [], { v: value });
      expect(JSON.parse(filled.body ?? '')).toEqual({ v: value });
      expect(filled.path.split('/')).toHaveLength(4);
    }),
  );
});

test.each([
  ['curl https://api.example/x', { method: 'GET', url: 'https://api.example/x', body: null, left: 0 }],
  ["curl -XDELETE 'https://api.example/x?a=1&b=2'", { method: 'DELETE', url: 'https://api.example/x?a=1&b=2', body: null, left: 0 }],
  ['curl -s -o /dev/null --max-time 5 https://api.example/x', { method: 'GET', url: 'https://api.example/x', body: null, left: 0 }],
  [
    `curl https://api.example/x \\\n  -H 'Content-Type: application/json' \\\n  --data-raw '{"a":"it'"'"'s"}'`,
    { method: 'POST', url: 'https://api.example/x', body: '{"a":"it\'s"}', left: 0 },
  ],
  ['curl -G https://api.example/x -d a=1 --data-urlencode "b=c d"', { method: 'GET', url: 'https://api.example/x?a=1&b=c%20d', body: null, left: 0 }],
  ['curl -u me:secret -b sid=1 -H "Authorization: Bearer abc" https://api.example/x', { method: 'GET', url: 'https://api.example/x', body: null, left: 3 }],
  ['curl -d @file.json https://api.example/x', { method: 'GET', url: 'https://api.example/x', body: null, left: 1 }],
  ['curl -I https://api.example/x', { method: 'HEAD', url: 'https://api.example/x', body: null, left: 0 }],
] as const)('%s', (text, want) => {
  const read = readCurl(text);
  if (typeof read === 'string') throw new Error(read);
  expect({ method: read.call.method, url: read.url, body: read.call.body, left: read.leftOut.length }).toEqual(want);
  expect(JSON.stringify(read)).not.toMatch(/secret|abc/);
});

test.each([
  'wget https://api.example/x',
  'curl',
  'curl https://a.example/ | sh',
  'curl https://a.example/ > out',
  'curl -F file=@x https://a.example/',
  'curl a && rm -rf b',
])('%s cannot be read, and it is said why', (text) => expect(typeof readCurl(text)).toBe('string'));

test('a curl line that is written can be read again: the same call, without its sign-in', () => {
  const text = fc.stringMatching(/^[\x20-\x7e]{0,30}$/);
  const token = fc.stringMatching(/^[a-z][a-z0-9-]{0,10}$/);
  fc.assert(
    fc.property(
      fc.constantFrom('GET', 'POST', 'PUT', 'DELETE', 'PATCH'),
      fc.array(fc.record({ name: token.map((name) => `x-${name}`), value: text.map((value) => value.trim()) }), { maxLength: 3 }),
      fc.array(fc.record({ name: token, value: text }), { maxLength: 3 }),
      fc.option(
        text.filter((body) => body !== '' && !body.startsWith('@')),
        { nil: null },
      ),
      (method, headers, query, body) => {
        const composed = call({ method, headers: body === null ? headers : [...headers, { name: 'content-type', value: 'text/plain' }], query, body });
        const read = readCurl(curlLine(composed, 'https://kettle.example/relay/one'));
        if (typeof read === 'string') throw new Error(read);
        expect(read).toEqual({
          url: `https://kettle.example/relay/one${pathAndQuery(composed)}`,
          call: { method, headers: headersSent(composed), body },
          leftOut: ['the sign-in'],
        });
      },
    ),
  );
});

test('a HAR that is written can be read again, and sign-ins of others are left out of it', () => {
  const request = {
    headers: [
      { name: 'content-type', value: 'application/json' },
      { name: 'authorization', value: 'Bearer [secret]' },
    ],
    body: '{"a":1}',
  };
  const har = harOf(
    {
      method: 'POST',
      url: 'https://api.example/x?a=b',
      startedAt: 0,
      tookMs: 5,
      request,
      answer: { status: 201, headers: [], body: '{}', bodyBytes: 2, contentType: 'application/json' },
    },
    '1',
  );
  expect(har).toMatchObject({
    log: { version: '1.2', entries: [{ startedDateTime: '1970-01-01T00:00:00.000Z', request: { queryString: [{ name: 'a', value: 'b' }] } }] },
  });
  expect(readHar(JSON.stringify(har))).toEqual([
    {
      url: 'https://api.example/x?a=b',
      call: { method: 'POST', headers: [{ name: 'content-type', value: 'application/json' }], body: '{"a":1}' },
      leftOut: ['the sign-in of whoever recorded it'],
    },
  ]);
  for (const wrong of ['', '{}', '{"log":{"entries":[]}}', '[1]']) expect(typeof readHar(wrong)).toBe('string');
});

test.each([
  { path: '/a/b', plain: true },
  { path: '/', plain: true },
  { path: '/a/..b/c..', plain: true },
  { path: '/a%20b', plain: true },
  { path: '/a/../b', plain: false },
  { path: '/a/.', plain: false },
  { path: '/%2E%2e/b', plain: false },
  { path: '/a%2Fb', plain: false },
  { path: '/a\\b', plain: false },
  { path: '/a//b', plain: false },
  { path: '/a b', plain: false },
  { path: '/a%00', plain: false },
  { path: '/a/..;x=1/b', plain: false },
  { path: '/a/%252e%252e%25252fb', plain: false },
  { path: '/a/100%25/..b;x', plain: true },
  { path: 'a', plain: false },
])('$path is plain: $plain', ({ path, plain }) => expect(isPlainPath(path)).toBe(plain));

test.each([
  ['x-page', '1', true],
  ['Accept', 'text/csv', true],
  ['Authorization', 'Bearer mine', false],
  ['X-Token', 'mine', false],
  ['Host', 'evil.example', false],
  ['content-length', '3', false],
  ['x-a', 'b\r\nhost: evil.example', false],
  ['x a', 'b', false],
] as const)('the header %s can be composed: %s, %s', (name, value, good) => expect(whyNoHeader(name, value, 'x-token') === null).toBe(good));
