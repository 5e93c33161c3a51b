import fc from 'fast-check';
import { expect, test } from 'vitest';
import { Fault } from '../fault.ts';
import { open, type SealKey, type SealPlace, seal } from './envelope.ts';
import { checkMasterKey, masterKey, sealKeyCheck } from './master-key.ts';

const bytes = (n: number) => fc.uint8Array({ minLength: n, maxLength: n });
const place = fc.record({ table: fc.string(), row: fc.string(), column: fc.string() });
const key = fc.record({ id: bytes(16), bytes: bytes(32) });
const sealed = fc.record({ key, nonce: bytes(12), place, plain: fc.uint8Array({ maxLength: 300 }) });
const broken = (work: () => unknown) => expect(work).toThrow(Fault);

test('what was sealed opens at its place and gives the same bytes back', () => {
  fc.assert(
    fc.property(sealed, (s) => {
      expect(open(s.key, s.place, seal(s.key, s.nonce, s.place, s.plain))).toEqual(Buffer.from(s.plain));
    }),
  );
});

test('any flipped bit, anywhere, keeps it from opening', () => {
  fc.assert(
    fc.property(sealed, fc.nat(), fc.nat({ max: 7 }), (s, where, bit) => {
      const box = seal(s.key, s.nonce, s.place, s.plain);
      const at = where % box.length;
      box[at] = (box[at] ?? 0) ^ (1 << bit);
      broken(() => open(s.key, s.place, box));
    }),
  );
});

test('moved to another table, row or column, or under another key, it does not open', () => {
  fc.assert(
    fc.property(sealed, place, bytes(32), (s, other, otherBytes) => {
      const box = seal(s.key, s.nonce, s.place, s.plain);
      fc.pre(JSON.stringify(other) !== JSON.stringify(s.place) && !Buffer.from(otherBytes).equals(Buffer.from(s.key.bytes)));
      broken(() => open(s.key, other, box));
      broken(() => open({ ...s.key, bytes: otherBytes }, s.place, box));
    }),
  );
});

test('places are not joined text: shifting a letter from one part to the next is another place', () => {
  const k: SealKey = { id: new Uint8Array(16), bytes: new Uint8Array(32) };
  const at = (table: string, row: string): SealPlace => ({ table, row, column: 'c' });
  broken(() => open(k, at('a', 'bc'), seal(k, new Uint8Array(12), at('ab', 'c'), Buffer.from('x'))));
});

test('a wrong master key is rejected and both ids are named', () => {
  fc.assert(
    fc.property(bytes(32), bytes(32), bytes(12), (mine, other, nonce) => {
      fc.pre(!Buffer.from(mine).equals(Buffer.from(other)));
      const [good, bad] = [masterKey(mine), masterKey(other)];
      checkMasterKey(good, good.name, sealKeyCheck(good, nonce));
      expect(() => checkMasterKey(bad, good.name, sealKeyCheck(good, nonce))).toThrow(new RegExp(`${good.name}.*${bad.name}`));
    }),
    { numRuns: 30 },
  );
});
