import { readdirSync, readFileSync } from 'node:fs';
import { expect, test } from 'vitest';
import { GUIDE_NAMES } from './definition.ts';
import { guideFor, purposesOf } from './guide.ts';
import { readDefinition } from './read-definition.ts';

const FOLDER = new URL('../../../definitions/', import.meta.url);
const shipped = readdirSync(FOLDER).map((name) => [name, readDefinition(readFileSync(new URL(name, FOLDER), 'utf8'))] as const);
const VALUES = Object.fromEntries(GUIDE_NAMES.map((name) => [name, `the-${name}`]));

test.each(shipped)('%s: every step can be followed once the values are there, and says what is missing until then', (_name, definition) => {
  const placeholders = Object.fromEntries(definition.placeholders.map((one) => [one.name, one.choices[0]?.value ?? one.example ?? '']));
  const parts = definition.registration.parts.map((one) => one.title);
  for (const purpose of [null, ...purposesOf(definition)]) {
    const whole = guideFor(definition, { ...VALUES, ...placeholders }, { done: [], purpose });
    for (const step of whole) {
      expect([step.title, step.missing, /\{[a-z_]+\}/.test(JSON.stringify([step.does, step.where, step.page ?? '']))]).toEqual([step.title, [], false]);
      // Whoever leads to a page of the console calls it as it is called there.
      if (step.page?.includes('the-client_id')) expect(parts).toContain(step.where);
      // What the words say is to be entered here can be entered at the step.
      expect([step.title, step.brings.length > 0]).toEqual([step.title, /enter it here/.test(step.does)]);
      expect(step.last_verified).toMatch(/^\d{4}-\d\d-\d\d$/);
    }
    const bare = guideFor(definition, {}, { done: [], purpose });
    expect(bare.flatMap((step) => step.missing).length).toBeGreaterThan(0);
    for (const step of bare)
      expect(step.does.includes('\u2039')).toBe(step.missing.some((name) => step.does.includes(`\u2039${name.replaceAll('_', ' ')}\u203a`)));
  }
});

test('steps of another purpose are left out, and ticks are by title, so that they outlive a step before them', () => {
  const ledgerfin = shipped.find(([name]) => name.startsWith('ledgerfin'))?.[1];
  if (!ledgerfin) throw new Error('ledgerfin is not there');
  const titles = (purpose: string | null) =>
    guideFor(ledgerfin, VALUES, { done: ['Upload the certificate'], purpose }).map((step) => [step.title.slice(0, 10), step.done]);
  expect(titles(null)).toHaveLength(1);
  expect(titles('posting')).toEqual([
    ['Make the s', false],
    ['Choose the', false],
    ['Upload the', true],
  ]);
});

test('a step that holds an unknown name, or two steps of one title, are rejected', () => {
  const text = readFileSync(new URL('eelgrass.yaml', FOLDER), 'utf8');
  expect(() => readDefinition(text)).not.toThrow();
  expect(() => readDefinition(text.replace('Put {redirect_uri} into', 'Put {redirect_url} into'))).toThrow();
  expect(() => readDefinition(text.replace('title: Make a secret', 'title: Make the client'))).toThrow();
});
