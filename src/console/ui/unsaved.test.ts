import { expect, test, vi } from 'vitest';
import { Unsaved } from './unsaved.svelte.ts';

const unloaded = (unsaved: Unsaved) => {
  const preventDefault = vi.fn();
  unsaved.beforeUnload({ preventDefault });
  return preventDefault.mock.calls.length === 1;
};

test('a page with nothing typed is left without a question', () => {
  const confirm = vi.fn();
  const unsaved = new Unsaved(confirm);
  expect([unsaved.mayLeave(), unloaded(unsaved), confirm.mock.calls.length]).toEqual([true, false, 0]);
});

test.each([
  { answer: true, leaves: true, staysDirty: false },
  { answer: false, leaves: false, staysDirty: true },
])('with something typed it asks: $answer', ({ answer, leaves, staysDirty }) => {
  const unsaved = new Unsaved(() => answer);
  unsaved.isDirty = true;
  expect(unloaded(unsaved)).toBe(true);
  expect([unsaved.mayLeave(), unsaved.isDirty]).toEqual([leaves, staysDirty]);
});
