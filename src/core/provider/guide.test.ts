import { readdirSync, readFileSync } from 'node:fs';
import { expect, test } from 'vitest';
import { guideFor, purposesOf } from './guide.ts';
import { readDefinition } from './read-definition.ts';

const FOLDER = new URL('../../../definitions/', import.meta.url);
const shipped = readdirSync(FOLDER).map((name) => [name, readDefinition(readFileSync(new URL(name, FOLDER), 'utf8'))] as const);
const VALUES = { redirect_uri: 'https://us.example/cb', client_title: 'Harbour desk', scopes: 'a b', home_page: 'https://us.example' };

test.each(shipped)('%s: every step can be followed once the values are there, and says what is missing until then', (_name, definition) => {
  expect(definition.guide.length).toBeGreaterThan(1);
  const placeholders = Object.fromEntries(definition.placeholders.map((one) => [one.name, one.choices[0]?.value ?? one.example ?? '']));
  for (const purpose of [null, ...purposesOf(definition)]) {
    const whole = guideFor(definition, { ...VALUES, ...placeholders }, { done: [], purpose });
    for (const step of whole)
      expect([step.title, step.missing, /\{[a-z_]+\}/.test(JSON.stringify([step.does, step.where, step.page ?? '']))]).toEqual([step.title, [], false]);
    expect(whole.some((step) => step.values.some((one) => one.name === 'redirect_uri'))).toBe(true);
    const bare = guideFor(definition, {}, { done: [], purpose });
    expect(bare.flatMap((step) => step.missing)).toContain('redirect_uri');
  }
});

test('steps of another purpose are left out, and ticks are by title, so that they outlive a step before them', () => {
  const ledgerfin = shipped.find(([name]) => name.startsWith('ledgerfin'))?.[1];
  if (!ledgerfin) throw new Error('ledgerfin is not there');
  const titles = (purpose: string | null) =>
    guideFor(ledgerfin, VALUES, { done: ['Save, and copy the service id'], purpose }).map((step) => [step.title.slice(0, 10), step.done]);
  expect(titles(null)).toHaveLength(3);
  expect(titles('posting')).toEqual([
    ['Open the p', false],
    ['Give it a ', false],
    ['Upload the', false],
    ['Save, and ', true],
  ]);
});

test('a step that holds an unknown name, or two steps of one title, are refused', () => {
  const text = readFileSync(new URL('eelgrass.yaml', FOLDER), 'utf8');
  expect(() => readDefinition(text.replace('Put {redirect_uri} into', 'Put {redirect_url} into'))).toThrow();
  expect(() => readDefinition(text.replace('title: Paste the redirect URI', 'title: Open the page of clients'))).toThrow();
});
