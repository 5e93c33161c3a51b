import { at, type Json, record, text } from '../json.ts';

// What an operation of an OpenAPI 3.x document takes: parameters beside the body, and a body to begin with.
const list = (value: unknown): unknown[] => (Array.isArray(value) ? value : []);

const MAX_PARAMETERS = 60;
const MAX_EXAMPLE = 200;
const MAX_BODY = 4_000;
const MAX_REFERENCES = 8;
const MAX_DEPTH = 4;
const MAX_MEMBERS = 40;
/** Values made for one body: schemas refer to each other, and their product has no end. */
const MAX_VALUES = 300;

export interface FoundParameter {
  name: string;
  in: 'path' | 'query' | 'header';
  required: boolean;
  says: string;
  example?: string;
}

/** Follows references within the document (RFC 6901 §6); those to other documents, and circles, end in nothing. */
function resolved(all: Json, value: unknown): Json {
  let found = record(value);
  for (let steps = 0; steps < MAX_REFERENCES; steps += 1) {
    const reference = text(found.$ref);
    if (reference === undefined) return found;
    if (!reference.startsWith('#/')) return {};
    found = record(at(all, decoded(reference.slice(1))));
  }
  return {};
}

const decoded = (fragment: string): string => {
  try {
    return decodeURIComponent(fragment);
  } catch {
    return fragment; // not encoded after all
  }
};

const shown = (value: unknown): string | undefined => {
  if (value === undefined || value === null) return undefined;
  const words = typeof value === 'object' ? JSON.stringify(value) : String(value);
  return words.length <= MAX_EXAMPLE ? words : undefined;
};

const exampleOf = (all: Json, of: Json): unknown => {
  const schema = resolved(all, of.schema);
  return (
    of.example ??
    resolved(all, Object.values(record(of.examples))[0]).value ??
    schema.example ??
    list(schema.examples)[0] ??
    schema.default ??
    list(schema.enum)[0]
  );
};

/** Those of the operation before those of its path (OpenAPI 3.1 §4.8.9.1); cookies are nobody's to send here. */
export function parametersOf(all: Json, item: Json, operation: Json): FoundParameter[] {
  const found = new Map<string, FoundParameter>();
  for (const one of [...list(operation.parameters), ...list(item.parameters)]) {
    const parameter = resolved(all, one);
    const [name, where] = [text(parameter.name), text(parameter.in)];
    if (!name || name.length > 80 || (where !== 'path' && where !== 'query' && where !== 'header') || found.has(`${where} ${name}`)) continue;
    const example = shown(exampleOf(all, parameter));
    found.set(`${where} ${name}`, {
      name,
      in: where,
      required: where === 'path' || parameter.required === true,
      says: (text(parameter.description) ?? '').split('\n')[0]?.slice(0, 200) ?? '',
      ...(example === undefined ? {} : { example }),
    });
  }
  return [...found.values()].slice(0, MAX_PARAMETERS);
}

/** The example of its JSON body, or one made from the schema; as JSON text. */
export function bodyExampleOf(all: Json, operation: Json): string | undefined {
  const content = record(resolved(all, operation.requestBody).content);
  const type = Object.keys(content).find((name) => /^application\/([a-z0-9.+-]*\+)?json(;|$)/i.test(name));
  if (type === undefined) return undefined;
  const media = record(content[type]);
  const example = exampleOf(all, media) ?? sampleOf(all, media.schema, 0, { left: MAX_VALUES });
  const body = example === undefined ? undefined : JSON.stringify(example);
  return body !== undefined && body.length <= MAX_BODY ? body : undefined;
}

/** A value such as a schema describes: enough to begin with, never a claim that it is valid. */
function sampleOf(all: Json, of: unknown, depth: number, budget: { left: number }): unknown {
  budget.left -= 1;
  if (depth > MAX_DEPTH || budget.left < 0) return undefined;
  const schema = resolved(all, of);
  const given = schema.example ?? list(schema.examples)[0] ?? schema.default ?? schema.const ?? list(schema.enum)[0];
  if (given !== undefined) return given;
  const type = text(schema.type) ?? text(list(schema.type).find((one) => one !== 'null'));
  if (schema.allOf) return Object.assign({}, ...list(schema.allOf).map((one) => record(sampleOf(all, one, depth + 1, budget)))) as unknown;
  if (schema.oneOf ?? schema.anyOf) return sampleOf(all, list(schema.oneOf ?? schema.anyOf)[0], depth + 1, budget);
  if (type === 'object' || schema.properties) {
    const members = Object.entries(record(schema.properties)).filter(([, member]) => resolved(all, member).readOnly !== true);
    const sampled = members.slice(0, MAX_MEMBERS).map(([name, member]) => [name, sampleOf(all, member, depth + 1, budget)] as const);
    return Object.fromEntries(sampled.filter(([, member]) => member !== undefined));
  }
  if (type === 'array') {
    const one = sampleOf(all, schema.items, depth + 1, budget);
    return one === undefined ? [] : [one];
  }
  if (type === 'integer' || type === 'number') return 0;
  if (type === 'boolean') return false;
  return type === 'string' ? '' : undefined;
}
