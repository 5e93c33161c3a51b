import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import type { ApiClient } from '../../api/client.ts';
import { Palette } from './palette.svelte.ts';

const asked: unknown[] = [];
const call = (async (name: string, input: unknown) => {
  asked.push([name, input]);
  if (name === 'listProviders') return { items: [{ name: 'eelgrass', title: 'Eelgrass' }] };
  if (name === 'listClients') return { items: [{ provider: 'eelgrass', name: 'office', title: 'Office' }] };
  if (name === 'listCallers') return { items: [{ name: 'board', title: 'The board' }] };
  if (name === 'listJobs') return { items: [{ name: 'berth-report', settings: { title: 'All bookings' } }] };
  return { items: [{ name: 'sailings', provider_title: 'Eelgrass', account: null }] };
}) as unknown as ApiClient;
const type = async (palette: Palette, text: string) => {
  palette.type(text);
  await vi.advanceTimersByTimeAsync(200);
  return palette.found.map((one) => `${one.kind} ${one.text} ${one.href}`);
};
beforeEach(() => {
  asked.length = 0;
  vi.useFakeTimers();
});
afterEach(() => vi.useRealTimers());

test('objects, pages and actions are found by parts of their names, in any order', async () => {
  const palette = new Palette(call);
  await palette.open();
  expect(palette.found.some((one) => one.kind === 'Page')).toBe(true);
  expect(await type(palette, 'offi eel')).toContain('Client eelgrass/office /providers/eelgrass/clients/office');
  expect(await type(palette, 'the board')).toContain('Caller board /callers/board');
  expect(await type(palette, 'sett')).toContain('Page Settings /settings');
  expect(await type(palette, 'needs action')).toContain('Action Show what needs action /connections?state=action_needed');
});

test('connections are asked for once typing pauses, and a tab named with one leads there', async () => {
  const palette = new Palette(call);
  await palette.open();
  palette.type('s');
  palette.type('sa');
  expect(await type(palette, 'sail')).toContain('Connection sailings /connections/sailings');
  expect(asked.filter((one) => (one as [string])[0] === 'listConnections')).toEqual([['listConnections', { query: { search: 'sail', limit: 8 } }]]);
  expect(palette.selected).toBe('Connection /connections/sailings sailings'); // it came after the keys: Enter goes there all the same
  palette.choose('');
  expect(palette.selected).toBe('Connection /connections/sailings sailings');
  expect(await type(palette, 'sail test call')).toContain('Connection sailings: test call /connections/sailings/test-call');
});
