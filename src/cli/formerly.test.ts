import { expect, test } from 'vitest';
import { today } from './formerly.ts';

test.each([
  { given: 'connection take-over sailings', now: 'connection import sailings', notes: 1 },
  { given: '--output json connection live sailings', now: '--output json connection lifetime sailings', notes: 1 },
  { given: '--url=http://127.0.0.1:1 caller sheet board', now: '--url=http://127.0.0.1:1 caller setup board', notes: 1 },
  { given: 'connection prove boats --ability reading', now: 'connection verify boats --capability reading', notes: 2 },
  { given: 'client secret add a/b --ends=2027-01-01', now: 'client secret add a/b --expires=2027-01-01', notes: 1 },
  { given: 'client secret prove a/b 1', now: 'client secret verify a/b 1', notes: 1 },
  { given: 'connection show prove', now: 'connection show prove', notes: 0 },
  { given: 'connection show --ends', now: 'connection show --ends', notes: 0 },
  { given: '', now: '', notes: 0 },
])('rk $given is rk $now', ({ given, now, notes }) => {
  const words = (line: string) => line.split(' ').filter(Boolean);
  const found = today(words(given));
  expect([found.args, found.notes.length]).toEqual([words(now), notes]);
});
