import fc from 'fast-check';
import { expect, test } from 'vitest';
import { fenceKey, fenceProof, isFenceProof, judge, type Standing } from './fence.ts';

const standing = fc.record<Standing>({
  installation: fc.constantFrom('a', 'b'),
  generation: fc.integer({ min: 1, max: 4 }),
  restore: fc.option(fc.constantFrom('r', 's')),
});

test('of two installations of one origin at most one goes on, and both agree which', () => {
  const opposite = { self: 'self', former: 'successor', successor: 'former', twin: 'twin', stranger: 'stranger' } as const;
  fc.assert(
    fc.property(standing, standing, (a, b) => {
      expect(judge(b, a)).toBe(opposite[judge(a, b)]);
      const goesOn = (verdict: string) => verdict === 'former' || verdict === 'self' || verdict === 'stranger';
      const isOne = a.installation === b.installation && (a.generation !== b.generation || a.restore !== b.restore);
      if (isOne) expect([judge(a, b), judge(b, a)].filter(goesOn).length).toBeLessThanOrEqual(1);
    }),
  );
});

test('a proof holds for its key, its direction, its challenge and all it says, and for nothing else', () => {
  const [key, other] = [fenceKey(new Uint8Array(32).fill(1)), fenceKey(new Uint8Array(32).fill(2))];
  const mine: Standing = { installation: 'a', generation: 2, restore: null };
  const proof = fenceProof(key, 'ask', 'c', { standing: mine, more: [7] });
  expect(isFenceProof(proof, fenceProof(key, 'ask', 'c', { standing: mine, more: [7] }))).toBe(true);
  for (const changed of [
    fenceProof(other, 'ask', 'c', { standing: mine, more: [7] }),
    fenceProof(key, 'answer', 'c', { standing: mine, more: [7] }),
    fenceProof(key, 'ask', 'd', { standing: mine, more: [7] }),
    fenceProof(key, 'ask', 'c', { standing: { ...mine, generation: 3 }, more: [7] }),
    fenceProof(key, 'ask', 'c', { standing: { ...mine, restore: 'r' }, more: [7] }),
    fenceProof(key, 'ask', 'c', { standing: mine, more: [8] }),
  ])
    expect(isFenceProof(proof, changed)).toBe(false);
});
