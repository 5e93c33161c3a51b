import { createHash } from 'node:crypto';
import fc from 'fast-check';
import { expect, test } from 'vitest';
import { personKeyProblem, personSegment, readPersonSegment, readPersonTarget, shortKey } from './person-key.ts';

const keys = fc
  .oneof(
    fc.string({ unit: 'binary', minLength: 1, maxLength: 60 }),
    fc.constantFrom('a/b', 'a%2Fb', '%', '%41', 'A', 'a', 'é', 'e\u0301', ' a', 'a ', '🦭', 'a?b#c', 'a+b', '..a'),
  )
  .filter((key) => personKeyProblem(key) === null);

test('a key comes back from a path as it went in, and two keys never share a path', () =>
  fc.assert(
    fc.property(keys, keys, (one, other) => {
      expect(readPersonSegment(personSegment(one))).toBe(one);
      expect(readPersonTarget(`crew-id/people/${personSegment(one)}`)).toEqual({ connection: 'crew-id', key: one });
      expect(personSegment(one) === personSegment(other)).toBe(one === other);
      const hash = (key: string) => createHash('sha256').update(key, 'utf8').digest('hex');
      expect(hash(one) === hash(other)).toBe(one === other);
    }),
  ));

test.each([
  ['', 'Send the application'],
  ['x'.repeat(201), 'at most 200'],
  ['\ud800', 'lone surrogate'],
  ['a\nb', 'control character'],
  ['a\u0085', 'control character'],
  ['..', 'cannot stand in a path'],
])('refused: %j', (key, why) => expect(personKeyProblem(key)).toContain(why));

test.each([['%zz'], ['%ff'], ['%'], ['a/b'], ['']])('no key: the segment %j', (segment) => expect(readPersonTarget(`crew-id/people/${segment}`)).toBeNull());

test('a log shows three characters at most', () => {
  expect(shortKey('member-4711')).toBe('mem\u2026');
  expect(shortKey('4711')).toBe('\u2026');
});
