import { expect, test } from 'vitest';
import { headersBack } from './relay-headers.ts';

const FROM = {
  token: 'the-token',
  url: 'https://api.tidewire.example/v1/a',
  base: 'https://api.tidewire.example/v1',
  relayBase: 'https://kettle.example/relay/a',
};
const OURS = ['content-security-policy', 'sandbox', 'x-content-type-options', 'nosniff'];

/** RFC 9110 §7.6.1: what `Connection` lists speaks of one connection, in however many lines it is listed. */
test.each([
  ['nothing', undefined, ['x-a', '1', 'x-b', '2']],
  ['keep-alive', 'keep-alive', ['x-a', '1', 'x-b', '2']],
  ['one name, in capitals', 'X-A', ['x-b', '2']],
  ['two names in one line', 'close, x-a ,x-b', []],
  ['two lines', ['x-a', 'keep-alive, x-b'], []],
])('Connection lists %s', (_what, connection, wanted) => {
  const back = headersBack({ 'x-a': '1', ...(connection === undefined ? {} : { connection }), 'x-b': '2' }, FROM);
  expect(back).toEqual([...OURS, ...wanted]);
});
