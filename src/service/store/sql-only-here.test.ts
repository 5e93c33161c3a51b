import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { expect, test } from 'vitest';

const SQL = /\b(?:SELECT .+ FROM|INSERT (?:IGNORE )?INTO|UPDATE \w+ SET|DELETE FROM|(?:CREATE|ALTER|DROP) TABLE)\b/;

test('statements stand in store/ alone', () => {
  const root = join(import.meta.dirname, '../../..', 'src');
  const files = readdirSync(root, { recursive: true, encoding: 'utf8' }).filter((name) => /\.(?:ts|svelte)$/.test(name));
  const found = files.filter((name) => SQL.test(readFileSync(join(root, name), 'utf8')));
  expect(found.length).toBeGreaterThan(20); // the pattern finds them
  expect(found.filter((name) => !name.startsWith('service/store/'))).toEqual([]);
});
