import { expect, test } from 'vitest';
import { type PracticeFacts, practiceFaults } from './practice.ts';

const GOOD: PracticeFacts = {
  ...{ made_at: '2026-12-01T02:00:00.000Z', version: '1.0.0', rows: 900, counts: { connections: 3 } },
  ...{ seals: { opened: 12, failed: [] }, definitions: { read: 2, failed: [] }, orphans: {}, results: { whole: 4, broken: [] } },
};
test.each<[string, Partial<PracticeFacts>, string[]]>([
  ['good', {}, []],
  ['without results', { results: null }, []],
  ['empty', { counts: {} }, ['It holds no connections.']],
  ['a seal', { seals: { opened: 11, failed: ['tokens.refresh_sealed'] } }, ['1 sealed value does not open: tokens.refresh_sealed.']],
  ['many results', { results: { whole: 0, broken: ['a', 'b', 'c', 'd', 'e', 'f'] } }, ['6 results have a gap: a, b, c, d, e and more.']],
  ['a definition', { definitions: { read: 1, failed: ['berthline'] } }, ['1 definition cannot be read: berthline.']],
])('%s', (_name, change, faults) => expect(practiceFaults({ ...GOOD, ...change })).toEqual(faults));
