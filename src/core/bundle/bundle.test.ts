import fc from 'fast-check';
import { expect, test } from 'vitest';
import { MASK } from '../calls/stored-values.ts';
import { type BundleObject, canonical, compareBundle, differences, digestOf, escaped, fieldPath, filled } from './bundle.ts';

const json = fc.jsonValue({ maxDepth: 3 });
const document = fc.dictionary(fc.stringMatching(/^[a-z]{1,4}$/), json, { maxKeys: 5 });

/** The keys in a path as a reader of it finds them. */
const stepsIn = (path: string): string[] => (path.match(/"(?:[^"\\]|\\.)*"|[^.]+/g) ?? []).map((one) => (one.startsWith('"') ? JSON.parse(one) : one));
const at = (of: unknown, steps: readonly string[]): unknown =>
  steps.reduce<unknown>(
    (value, step) => (typeof value === 'object' && value !== null && Object.hasOwn(value, step) ? (value as Record<string, unknown>)[step] : undefined),
    of,
  );

test('a document equals itself whatever the order of its keys, and every difference is named by a path that leads to it', () => {
  fc.assert(
    fc.property(document, document, (a, b) => {
      expect(differences(a, JSON.parse(JSON.stringify(a)))).toEqual([]);
      const found = differences(a, b);
      expect(found.length === 0).toBe(canonical(a) === canonical(b));
      for (const one of found) {
        expect(stepsIn(fieldPath(one.steps))).toEqual(one.steps);
        expect(canonical(at(a, one.steps))).toBe(canonical(one.here));
        expect(canonical(at(b, one.steps))).toBe(canonical(one.bundle));
      }
    }),
    { examples: [[{ g: { '.': false, '': 1, 'a"b': 2, '"c"': 3 } }, { g: {} }]] },
  );
});

test('whatever text there is, escaped and filled again it is the same; variables are filled, and what is missing is named', () => {
  fc.assert(
    fc.property(document, (one) => {
      expect(filled(escaped(one), {})).toEqual({ document: one, missing: [] });
    }),
  );
  // biome-ignore-start lint/suspicious/noTemplateCurlyInString: variables of bundles are written so
  expect(filled({ a: 'x${ID}y', b: ['${B}', '$$'] }, { ID: '7' })).toEqual({ document: { a: 'x7y', b: ['${B}', '$'] }, missing: ['B'] });
  expect(filled({ a: '${toString}' }, {}).missing).toEqual(['toString']);
  // biome-ignore-end lint/suspicious/noTemplateCurlyInString: as above
});

const object = (name: string, doc: Record<string, unknown>): BundleObject & { masked: Record<string, unknown> } => ({
  kind: 'job',
  name,
  document: doc,
  masked: doc,
});
test.each<[string, Record<string, unknown> | null, Record<string, unknown> | null, Record<string, unknown> | null, string]>([
  ['only in the bundle', null, { a: 1 }, null, 'new'],
  ['the same in both', { a: 1 }, { a: 1 }, null, 'same'],
  ['here already, never imported: adopted', { a: 1 }, { a: 2 }, null, 'changed'],
  ['changed in the bundle since the import', { a: 1 }, { a: 2 }, { a: 1 }, 'changed'],
  ['edited here since the import', { a: 2 }, { a: 1 }, { a: 1 }, 'conflict'],
  ['edited here and in the bundle alike', { a: 2 }, { a: 2 }, { a: 1 }, 'same'],
  ['taken out of the bundle', { a: 1 }, null, { a: 1 }, 'removed'],
  ['never in a bundle', { a: 1 }, null, null, 'only_here'],
])('%s', (_name, here, bundle, last, state) => {
  const compared = compareBundle(here ? [object('x', here)] : [], bundle ? [object('x', bundle)] : [], new Map(last ? [['job:x', digestOf(last)]] : []));
  expect(compared.map((one) => one.state)).toEqual([state]);
});

test('a secret that is left out is kept, and never shown beside what a bundle gives; a rename is named', () => {
  const here = { ...object('x', { url: 'https://a.test/key' }), masked: { url: MASK } };
  const dotted = { ...object('x', { headers: { 'a.b': 'key' } }), masked: { headers: { 'a.b': MASK } } };
  expect(compareBundle([dotted], [object('x', { headers: { 'a.b': 'new' } })], new Map())[0]?.fields).toEqual([
    { path: 'headers."a.b"', here: MASK, bundle: 'new' },
  ]);
  expect(compareBundle([here], [object('x', { url: MASK })], new Map())[0]?.state).toBe('same');
  expect(compareBundle([here], [object('x', { url: 'https://b.test' })], new Map())[0]?.fields).toEqual([
    { path: 'url', here: MASK, bundle: 'https://b.test' },
  ]);
  expect(compareBundle([object('old', { a: 1 })], [object('new', { a: 1 })], new Map()).find((one) => one.name === 'new')?.note).toContain('looks like old');
});
