import { expect, test } from 'vitest';
import { type Kind, type Point, playKillPoint } from './killpoints/play.ts';
import { newDatabase } from './support/new-database.ts';

/** The short form of `npm run killpoints`: the points at which most can be lost. */
const SHORT: [Kind, Point][] = [
  ['strict', 'answer_arrived'],
  ['strict', 'spill_renamed'],
  ['strict', 'save_committed'],
  ['strict', 'spill_owner_down'],
  ['strict', 'thaw_with_answer'],
  ['strict', 'code_spilled'],
  ['grace', 'bytes_left'],
  ['none', 'answer_arrived'],
];
// Mostly they wait: for a lease to end, for a process to start. Two at a time, each on a database of its own.
test.concurrent.each(SHORT)('%s provider, killed at %s', async (kind, point) => {
  const { seen, wanted, reuse } = await playKillPoint(kind, point, await newDatabase());
  expect(seen).toBe(wanted);
  if (wanted === 'works') expect(reuse).toBe(0); // no spent token was used a second time while its answer was held
});
