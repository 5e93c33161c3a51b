import { readFileSync } from 'node:fs';
import { expect, test } from 'vitest';
import { nearest } from '../oauth/redirect-uri.ts';
import { readDefinition } from '../provider/read-definition.ts';
import { readyInOne, readyLines, type Standing } from './ready.ts';

const read = (name: string) => readDefinition(readFileSync(new URL(`../../../definitions/${name}.yaml`, import.meta.url), 'utf8'));
const [bosunry, ledgerfin] = [read('bosunry'), read('ledgerfin')];
const OURS = 'https://rk.ferry.example/oauth/callback/bosunry/rosters';
const GOOD: Standing = {
  missing: [],
  unconfirmed: [],
  redirectUri: OURS,
  redirectUrisThere: [OURS],
  domainsThere: ['ferry.example'],
  approval: 'not_needed',
  reach: 'listed',
  listedAccounts: ['joss@ferry.example'],
  registeredScopes: ['rosters:read', 'whoami'],
  wants: {
    grantType: 'authorization_code',
    scopes: ['rosters:read'],
    operations: [{ id: 'list', needs: [['rosters:read'], ['rosters:write']] }],
    expectedAccount: 'Joss@ferry.example',
  },
};
const wants = (change: Partial<NonNullable<Standing['wants']>>): Partial<Standing> => ({
  wants: { ...(GOOD.wants as NonNullable<Standing['wants']>), ...change },
});

test('where everything is in order, every line is good, and the one line shows it', () => {
  const lines = readyLines(bosunry, GOOD);
  expect(lines.map((line) => [line.what, line.verdict])).toEqual([
    ['entered', 'good'],
    ['redirect URI', 'good'],
    ['scopes', 'good'],
    ['listed accounts', 'good'],
  ]);
  expect(readyInOne(lines)).toBe('Ready.');
});

test.each<[string, Partial<Standing>, 'missing' | 'doubt', string]>([
  ['a value is missing', { missing: ['the client id'] }, 'missing', 'the client id'],
  ['an address is not confirmed', { unconfirmed: ['https://new.example'] }, 'missing', 'https://new.example'],
  ['a slash too many at the provider', { redirectUrisThere: [`${OURS}/`] }, 'missing', 'slash too many'],
  ['none is saved at the provider', { redirectUrisThere: [] }, 'missing', 'ends too early'],
  ['nobody pasted it back', { redirectUrisThere: null }, 'doubt', 'Not verified: paste the redirect URI'],
  ['http in public', { redirectUri: OURS.replace('https', 'http'), redirectUrisThere: [OURS.replace('https', 'http')] }, 'missing', 'takes https only'],
  ['its domain is not listed', { domainsThere: ['berry.example'] }, 'missing', 'not among the listed domains'],
  ['domains were not entered', { domainsThere: null }, 'doubt', 'must list its host'],
  ['approval was not requested', { approval: 'not_requested' }, 'missing', 'not requested yet'],
  ['approval is awaited', { approval: 'requested' }, 'doubt', 'Approval requested'],
  ['they have requested more information', { approval: 'info_requested' }, 'missing', 'requested more information'],
  ['approval was rejected', { approval: 'rejected' }, 'missing', 'rejected'],
  ['nobody is listed', { listedAccounts: [] }, 'missing', 'none is entered'],
  ['another account is listed', { listedAccounts: ['ane@ferry.example'] }, 'missing', 'not among the listed'],
  ['no account is expected', wants({ expectedAccount: null }), 'doubt', 'Only these can consent'],
  ['a scope is not registered', wants({ scopes: ['rosters:read', 'offline_access'] }), 'missing', 'not registered at the provider: offline_access'],
  ['a scope is registered misspelt', { registeredScopes: ['roster:read'] }, 'missing', 'may be called \u201croster:read\u201d at the provider'],
  ['what is registered is not known', { registeredScopes: [] }, 'doubt', 'are not entered'],
  ['an operation needs more', wants({ operations: [{ id: 'change', needs: [['rosters:write']] }] }), 'missing', 'change needs rosters:write'],
])('%s: said, with what to do, on the right side', (_name, change, verdict, says) => {
  const lines = readyLines(bosunry, { ...GOOD, ...change });
  const found = lines.filter((line) => line.verdict !== 'good');
  expect(found).toHaveLength(1);
  expect(found[0]).toMatchObject({ verdict, says: expect.stringContaining(says), remedy: expect.any(String) });
  expect(readyInOne(lines)).toMatch(verdict === 'missing' ? /^Not ready: / : /^Ready\. Not verified: [a-zA-Z ]+\.$/);
});

test('a client that acts for itself has no redirect URI and no accounts to compare; scopes that the organization must consent to are said', () => {
  const lines = readyLines(ledgerfin, {
    ...GOOD,
    redirectUrisThere: null,
    registeredScopes: ['books.read', 'books.post'],
    wants: { grantType: 'client_credentials', scopes: ['books.post'], operations: [], expectedAccount: null },
  });
  expect(lines.map((line) => [line.what, line.verdict])).toEqual([
    ['entered', 'good'],
    ['scopes', 'doubt'],
    ['scopes', 'good'],
  ]);
});

test('of several registered ones, the one that agrees longest is compared', () => {
  expect(nearest('https://a.example/cb/x', ['https://b.example/cb/x', 'https://a.example/cb/y', 'https://a.example/'])).toBe('https://a.example/cb/y');
  expect(nearest('https://a.example', ['https://a.example/more'])).toBe('https://a.example/more');
});
