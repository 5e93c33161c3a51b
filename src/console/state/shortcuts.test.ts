import { expect, test } from 'vitest';
import { shortcutReader } from './shortcuts.ts';

const PLACES = [
  { path: '/', key: 'o' },
  { path: '/connections', key: 'c' },
];
type Press = Parameters<ReturnType<typeof shortcutReader>>[0];
const press = (key: string, more: Partial<Press> = {}): Press => ({ key, ctrlKey: false, metaKey: false, altKey: false, inField: false, at: 0, ...more });

test.each([
  { name: 'Ctrl K', presses: [press('k', { ctrlKey: true })], does: { does: 'palette' } },
  { name: 'Command K, typed in a field', presses: [press('K', { metaKey: true, inField: true })], does: { does: 'palette' } },
  { name: 'AltGr and K, which writes a letter', presses: [press('k', { ctrlKey: true, altKey: true })], does: null },
  { name: 'a question mark', presses: [press('?')], does: { does: 'help' } },
  { name: 'a question mark in a field', presses: [press('?', { inField: true })], does: null },
  { name: 'a slash', presses: [press('/')], does: { does: 'search' } },
  { name: 'g, then c', presses: [press('g'), press('c', { at: 900 })], does: { does: 'go', path: '/connections' } },
  { name: 'g, then c much later', presses: [press('g'), press('c', { at: 5_000 })], does: null },
  { name: 'g, then a key without a page', presses: [press('g'), press('x', { at: 10 })], does: null },
  { name: 'c alone', presses: [press('c')], does: null },
])('$name', ({ presses, does }) => {
  const read = shortcutReader(PLACES);
  expect(presses.map(read).at(-1)).toEqual(does);
});
