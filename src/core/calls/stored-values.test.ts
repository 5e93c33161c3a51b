import fc from 'fast-check';
import { expect, test } from 'vitest';
import { maskedCall } from './secret-values.ts';
import { MASK, maskedPlaces, unmasked, withStoredValues } from './stored-values.ts';

const KEY = 'k7Qm2xW9pL4vT8rN3bZ6';
const pair = (name: string, value = KEY) => ({ name, value });
const stored = { path: `/t?sig=${KEY}&page=1`, query: [pair('api_key'), pair('page', '2')], headers: [pair('x-pin'), pair('token', 'other')], body: null };
const shown = maskedCall(stored, MASK);

test.each([
  { name: 'as it was shown', sent: shown, whole: stored },
  { name: 'in another order', sent: { ...shown, headers: [...shown.headers].reverse() }, whole: { ...stored, headers: [...stored.headers].reverse() } },
  {
    name: 'with a new value in one place',
    sent: { ...shown, headers: [pair('x-pin', 'new'), pair('token', MASK)] },
    whole: { ...stored, headers: [pair('x-pin', 'new'), pair('token', 'other')] },
  },
])('$name: each (secret) is what is stored there', ({ sent, whole }) => expect(unmasked(sent, { stored, masked: shown })).toEqual(whole));

test.each([
  { name: 'under another name', sent: { headers: [pair('x-other', MASK)] }, at: ['call.headers.x-other.value'] },
  { name: 'in a text that was changed', sent: { path: `/other?sig=${MASK}` }, at: ['call.path'] },
  { name: 'where nothing is stored', sent: { body: MASK }, at: ['call.body'] },
])('$name it is an error that names the place', ({ sent, at }) => {
  expect(maskedPlaces(withStoredValues(sent, stored, shown), 'call')).toEqual(at);
  expect(() => unmasked(sent, { stored, masked: shown }, 'call')).toThrow(expect.objectContaining({ code: 'INPUT_INVALID' }));
});

test('whatever a call holds: what is shown of it, sent back, is what is stored', () => {
  const text = fc.oneof(
    fc.constantFrom(KEY, 'plain', 'a=b'),
    fc.string({ maxLength: 12 }).filter((one) => !one.includes(MASK)),
  );
  const pairs = fc.uniqueArray(fc.record({ name: fc.constantFrom('api_key', 'x-pin', 'page', 'token', '__proto__'), value: text }), {
    selector: (one) => one.name,
    maxLength: 5,
  });
  const calls = fc.record({ path: text, query: pairs, headers: pairs, body: fc.option(fc.constantFrom(`{"password":"${KEY}","n":1}`, `pin=${KEY}&x=1`)) });
  fc.assert(fc.property(calls, (call) => void expect(unmasked(maskedCall(call, MASK), { stored: call, masked: maskedCall(call, MASK) })).toEqual(call)));
});
