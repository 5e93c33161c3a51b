import { expect, test } from 'vitest';
import { DraftProvider } from '../../api/providers.ts';
import { ProviderDraft } from './provider-draft.svelte.ts';

test.each([
  ['issuer', { from: 'issuer', address: 'id.provider.example', name: 'gull' }],
  ['openapi', { from: 'openapi', address: '', document: 'openapi: 3.1.0' }],
  ['short_form', { from: 'short_form', scope_separator: ',', token_parameters: { audience: 'a=b', flag: '' }, authorization_parameters: { x: '1', y: '2' } }],
  ['definition', { from: 'definition', document: 'openapi: 3.1.0' }],
] as const)('the way %s sends what it needs, and takes a document before an address', (way, body) => {
  const draft = new ProviderDraft();
  draft.way = way;
  [draft.address, draft.document, draft.name, draft.delimiter] = ['id.provider.example', way === 'issuer' ? '' : 'openapi: 3.1.0', ' gull ', ','];
  [draft.token, draft.authorization, draft.tokenUrl] = ['audience=a=b\nflag', 'x=1&y=2', 'https://id.provider.example/token'];
  expect(DraftProvider.parse(draft.body())).toMatchObject(body);
});
