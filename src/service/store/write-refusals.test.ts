import { expect, test } from 'vitest';
import { writeRefusals } from './write-refusals.ts';

/** Seconds, and what happened then: `-` a refused write, `+` an accepted one. */
test.each([
  ['one refusal is none', '0-', null],
  ['two within a second are none', '0- 0.5-', null],
  ['refusals that last', '0- 1.2-', 0],
  ['two far apart are two single ones', '0- 9-', null],
  ['single writes still succeed: it goes on', '0- 1+ 2- 3+ 4- 6+', 0],
  ['accepted after some quiet: over', '0- 2- 8+', null],
  ['quiet alone is no proof', '0- 2- 60-', 0],
  ['a second time', '0- 2- 8+ 20- 22-', 20],
])('%s', (_name, happened, since) => {
  let at = 0;
  const refusals = writeRefusals(() => at);
  for (const one of happened.split(' ')) {
    at = Number.parseFloat(one) * 1000;
    if (one.endsWith('-')) refusals.refused('ER_DISK_FULL 1021');
    else refusals.accepted();
  }
  expect(refusals.state()).toEqual(since === null ? null : { since: since * 1000, says: 'ER_DISK_FULL 1021' });
});
