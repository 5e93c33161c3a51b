import { readFileSync } from 'node:fs';
import { expect, test } from 'vitest';
import { DOCUMENTS } from '../scripts/documents/main.ts';

test.each(Object.entries(DOCUMENTS))('%s is what the code says: else run `npm run docs`', (file, document) => {
  expect(readFileSync(new URL(`../${file}`, import.meta.url), 'utf8')).toBe(document());
});
