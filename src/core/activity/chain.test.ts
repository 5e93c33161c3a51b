import { randomBytes } from 'node:crypto';
import fc from 'fast-check';
import { expect, test } from 'vitest';
import { type ChainedEntry, chainKey, chainStart, entryHash, follow, isProved, pointProof } from './chain.ts';

const CHAIN = '01a22508-d38d-711c-841b-4b3507b84f23';
const text = fc.string({ maxLength: 20 });
const entries = fc
  .array(fc.record({ id: fc.uuid(), at: fc.nat(), actor: text, kind: text, subject: text, says: text, data: text, routine: fc.boolean() }), {
    minLength: 1,
    maxLength: 12,
  })
  .map((all) => {
    let before = chainStart(CHAIN);
    return all.map((one): ChainedEntry => {
      const plain = { ...one, requestId: null, address: '127.0.0.1', sequence: before.sequence + 1 };
      const entry = { ...plain, hash: entryHash(before.hash, plain) };
      before = entry;
      return entry;
    });
  });

test('a chain is followed to its end, from its start and from any place in it', () =>
  fc.assert(
    fc.property(entries, fc.nat(), (all, n) => {
      const last = all.at(-1) as ChainedEntry;
      expect(follow(chainStart(CHAIN), all)).toEqual({ reached: { sequence: all.length, hash: last.hash }, broken: null });
      const cut = n % all.length;
      const from = cut === 0 ? chainStart(CHAIN) : { sequence: cut, hash: (all[cut - 1] as ChainedEntry).hash };
      expect(follow(from, all.slice(cut)).broken).toBeNull();
    }),
  ));

test('whatever is edited, removed, doubled, swapped or put in: the first entry that does not fit is named, and none after the place escapes', () =>
  fc.assert(
    fc.property(entries, fc.nat(), fc.constantFrom('says', 'actor', 'at', 'data', 'address', 'remove', 'double', 'swap', 'foreign'), (all, n, what) => {
      const at = n % all.length;
      const one = all[at] as ChainedEntry;
      const changed = [...all];
      if (what === 'remove') {
        fc.pre(at < all.length - 1); // the last one is missed by the head of the chain
        changed.splice(at, 1);
      } else if (what === 'double') changed.splice(at, 0, one);
      else if (what === 'swap') {
        fc.pre(at < all.length - 1);
        changed.splice(at, 2, all[at + 1] as ChainedEntry, one);
      } else if (what === 'foreign') changed.splice(at, 1, { ...one, id: '00000000-0000-4000-8000-000000000000', hash: randomBytes(32) });
      else changed[at] = { ...one, [what]: what === 'at' ? one.at + 1 : `${one[what]}x` };
      const { broken } = follow(chainStart(CHAIN), changed);
      expect(broken).not.toBeNull();
      expect(changed.indexOf(broken?.entry as ChainedEntry)).toBeLessThanOrEqual(at + 1);
    }),
  ));

test('a head is proved for its chain, its place and its key alone', () => {
  const [key, other] = [chainKey(randomBytes(32)), chainKey(randomBytes(32))];
  const point = { sequence: 7, hash: randomBytes(32) };
  const proof = pointProof(key, CHAIN, 'head', point);
  expect(isProved(pointProof(key, CHAIN, 'head', point), proof)).toBe(true);
  for (const [k, chain, what, place] of [
    [other, CHAIN, 'head', point],
    [key, 'another', 'head', point],
    [key, CHAIN, 'base', point],
    [key, CHAIN, 'head', { ...point, sequence: 6 }],
    [key, CHAIN, 'head', { ...point, hash: randomBytes(32) }],
  ] as const)
    expect(isProved(pointProof(k, chain, what, place), proof)).toBe(false);
  expect(isProved(pointProof(key, CHAIN, 'head', point), proof.subarray(1))).toBe(false);
});

test('no two entries give one text: a boundary cannot be moved from one field into the next', () => {
  const plain = { id: 'a', at: 1, actor: 'marit', kind: 'x', subject: 's', says: 'y', data: '{}', routine: false, requestId: null, address: null, sequence: 1 };
  const before = chainStart(CHAIN).hash;
  expect(entryHash(before, { ...plain, actor: 'marit","x', kind: '' })).not.toEqual(entryHash(before, { ...plain, actor: 'marit', kind: 'x' }));
});
