import { readdirSync, readFileSync } from 'node:fs';
import { expect, test } from 'vitest';
import { Fault } from '../fault.ts';
import { definitionSchema } from './json-schema.ts';
import { definitionText, EMPTY_LISTS_KEPT, readDefinition } from './read-definition.ts';

const EELGRASS = readFileSync(new URL('../../../definitions/eelgrass.yaml', import.meta.url), 'utf8');

test('the definition that ships is good, as YAML and as JSON', () => {
  const read = readDefinition(EELGRASS);
  expect(read.dialect).toMatchObject({ rotation: 'each_use', reuse: 'grace', reuse_grace_seconds: 30, assumed_life_seconds: 1800, pkce: 'S256' });
  expect(readDefinition(JSON.stringify(read))).toEqual(read);
});

const SHIPPED = new URL('../../../definitions/', import.meta.url);
test.each(readdirSync(SHIPPED).filter((one) => one.endsWith('.yaml')))('%s, written as text and read again, is the same', (name) => {
  const read = readDefinition(readFileSync(new URL(name, SHIPPED), 'utf8'));
  expect(readDefinition(definitionText(read))).toEqual(read);
});

test('an empty list is left out only where its default is the empty list', () => {
  const counting = new Set<string>();
  const walk = (schema: unknown): void => {
    if (typeof schema !== 'object' || schema === null) return;
    const { properties = {}, required = [] } = schema as { properties?: Record<string, Record<string, unknown>>; required?: string[] };
    for (const [name, one] of Object.entries(properties))
      if (one.type === 'array' && !one.minItems && !required.includes(name) && JSON.stringify(one.default) !== '[]') counting.add(name);
    for (const one of Object.values(schema)) walk(one);
  };
  walk(definitionSchema());
  expect([...counting].sort()).toEqual([...EMPTY_LISTS_KEPT].sort());
});

const line = (text: string) => EELGRASS.split('\n').findIndex((one) => one.includes(text)) + 1;
const cases = [
  {
    name: 'an unknown member',
    from: 'title: Eelgrass',
    to: 'tilte: Eelgrass',
    code: 'DEFINITION_INVALID',
    place: { path: 'tilte', line: line('title: Eelgrass') },
  },
  {
    name: 'an unknown member inside the dialect',
    from: 'rotation: each_use',
    to: 'rotaton: each_use',
    code: 'DEFINITION_INVALID',
    place: { path: 'dialect.rotaton', line: line('rotation: each_use') },
  },
  {
    name: 'plain http off loopback',
    from: 'token_endpoint: https://',
    to: 'token_endpoint: http://',
    code: 'DEFINITION_INVALID',
    place: { path: 'server.token_endpoint', line: line('token_endpoint: https') },
  },
  {
    name: 'a grace without its seconds',
    from: '  reuse_grace_seconds: 30\n',
    to: '',
    code: 'DEFINITION_INVALID',
    place: { path: 'dialect.reuse_grace_seconds' },
  },
  {
    name: 'a probe that needs an unlisted scope',
    from: 'path: /tables, needs: [tables.read]',
    to: 'path: /tables, needs: [tables.raed]',
    code: 'DEFINITION_INVALID',
    place: { path: 'apis.0.probes.0.needs', line: line('path: /tables, needs') },
  },
  { name: 'not YAML at all', from: 'server:', to: 'server: [', code: 'DEFINITION_INVALID', place: {} },
  { name: 'an alias', from: 'about: Shared', to: 'about: *x Shared', code: 'DEFINITION_INVALID', place: null },
  { name: 'no word about S256', from: '[S256]', to: '[plain]', code: 'DEFINITION_UNSUPPORTED', place: null },
];
test.each(cases)('$name is rejected with its place', ({ from, to, code, place }) => {
  expect(EELGRASS).toContain(from);
  const read = () => readDefinition(EELGRASS.replace(from, to));
  expect(read).toThrow(Fault);
  try {
    read();
  } catch (error) {
    expect(error).toMatchObject({ code });
    if (place) expect((error as Fault).places).toContainEqual(expect.objectContaining(place));
  }
});
