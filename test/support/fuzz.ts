import { z } from 'zod';
import type { Operation } from '../../src/api/operation.ts';

/** A repeatable source of numbers in [0, 1): the same seed, the same requests. */
function seeded(seed: number): () => number {
  let state = seed >>> 0 || 1;
  return () => {
    // xorshift32
    state ^= state << 13;
    state ^= state >>> 17;
    state ^= state << 5;
    state >>>= 0;
    return state / 2 ** 32;
  };
}

export interface FuzzRequest {
  method: string;
  path: string;
  headers: Record<string, string>;
  body: string | undefined;
}

type Json = Record<string, unknown>;

/** Words that have broken programs before: names of what every object has, encodings, limits, other grammars. */
const HOSTILE = [
  'constructor',
  '__proto__',
  'toString',
  'hasOwnProperty',
  '',
  ' ',
  '.',
  '..',
  '../../etc/passwd',
  '%00',
  '%2e%2e%2f',
  '%ff',
  '\u0000',
  '\ud800',
  '\u202e',
  "'; DROP TABLE history; --",
  '" OR ""="',
  '{{7*7}}',
  '$' + '{7*7}',
  '<script>alert(1)</script>',
  'a'.repeat(5_000),
  '0',
  '-1',
  '1e309',
  'NaN',
  'null',
  '9007199254740993',
  '2026-13-45T99:99:99Z',
  '0001-01-01T00:00:00Z',
  '[::1]',
  'http://127.0.0.1:1/',
  'https://a.example/{x}',
  'urn:x:y',
  'curl "$' + '{$' + '{x"',
];

export class Fuzzer {
  readonly #random: () => number;
  /** Names that exist: what lies behind a good name is reached too. */
  readonly #known: Record<string, string[]>;

  constructor(seed: number, known: Record<string, string[]>) {
    this.#random = seeded(seed);
    this.#known = known;
  }

  chance(of: number): boolean {
    return this.#random() < of;
  }
  pick<T>(from: readonly T[]): T {
    return from[Math.floor(this.#random() * from.length)] as T;
  }
  word(): string {
    return this.pick(HOSTILE);
  }

  /** A request to an operation of the API: mostly of its own shape, with hostile values in it. */
  ofOperation(operation: Operation): FuzzRequest {
    const path = operation.path.replace(/\{(\w+)\}/g, (_all, name: string) => {
      const known = this.#known[name] ?? [];
      return encodeURIComponent(known.length > 0 && this.chance(0.7) ? this.pick(known) : this.word().replace('\ud800', ''));
    });
    const query = operation.query ? this.#query(z.toJSONSchema(operation.query, { io: 'input', unrepresentable: 'any' }) as Json) : '';
    const schema = operation.body ? (z.toJSONSchema(operation.body, { io: 'input', unrepresentable: 'any' }) as Json) : null;
    const body =
      schema === null
        ? undefined
        : this.chance(0.06)
          ? this.pick(['', '{', '[]', 'null', '"x"', '{"a":'.repeat(2_000), '\u0000'])
          : JSON.stringify(this.value(schema, schema));
    return { method: operation.method, path: `${path}${query}`, headers: body === undefined ? {} : { 'content-type': 'application/json' }, body };
  }

  /** A request of no shape, to any lane of the service. */
  raw(lanes: readonly string[]): FuzzRequest {
    const method = this.pick(['GET', 'POST', 'PUT', 'PATCH', 'DELETE', 'HEAD', 'OPTIONS']);
    const more = this.chance(0.5) ? `/${encodeURIComponent(this.word().replace('\ud800', ''))}` : '';
    const query = this.chance(0.5)
      ? `?${this.pick(['state', 'code', 'client_id', '_method', 'a[b]', '__proto__', 'x'])}=${encodeURIComponent(this.word().replace('\ud800', ''))}`
      : '';
    const form = this.chance(0.5);
    const types = [
      'application/json',
      'application/x-www-form-urlencoded',
      'text/plain',
      'multipart/form-data; boundary=x',
      'application/json; charset=utf-7',
      '',
    ];
    const body = method === 'GET' || method === 'HEAD' ? undefined : form ? this.#form() : this.word().replace('\ud800', '');
    const encoding = this.chance(0.1) ? { 'content-encoding': this.pick(['gzip', 'br', 'squeezed', 'identity']) } : {};
    const authorization = this.chance(0.4)
      ? { authorization: this.pick(['Basic !!!!', 'Basic OjA=', 'Bearer x', 'Bearer', 'Digest a', `Basic ${'A'.repeat(4_000)}`]) }
      : {};
    return { method, path: `${this.pick(lanes)}${more}${query}`, headers: { 'content-type': this.pick(types), ...encoding, ...authorization }, body };
  }

  #form(): string {
    const form = new URLSearchParams();
    for (const name of ['grant_type', 'client_id', 'client_secret', 'resource', 'scope', 'code', 'refresh_token', 'token', 'minimum_life', 'code_verifier'])
      if (this.chance(0.4))
        form.append(
          name,
          this.chance(0.4) ? this.pick(['client_credentials', 'authorization_code', 'refresh_token', ...(this.#known.caller_id ?? [])]) : this.word(),
        );
    return form.toString();
  }

  #query(schema: Json): string {
    const names = Object.entries((schema.properties ?? {}) as Record<string, Json>).filter(() => this.chance(0.6));
    const query = new URLSearchParams(names.map(([name, one]) => [name, String(this.value(one, schema))]));
    return names.length === 0 ? '' : `?${query}`;
  }

  /** A value that mostly fits the JSON schema. */
  value(schema: Json, root: Json, depth = 0): unknown {
    if (depth > 6 || this.chance(0.04)) return this.pick<unknown>([null, true, -1, 1e300, 'x', [], {}, this.word()]);
    if (typeof schema.$ref === 'string') {
      const name = schema.$ref.split('/').at(-1) ?? '';
      return this.value(((root.$defs ?? {}) as Record<string, Json>)[name] ?? {}, root, depth + 1);
    }
    const choices = (schema.anyOf ?? schema.oneOf) as Json[] | undefined;
    if (choices) return this.value(this.pick(choices), root, depth + 1);
    if (schema.const !== undefined) return schema.const;
    if (Array.isArray(schema.enum)) return this.pick(schema.enum);
    switch (schema.type) {
      case 'object': {
        const required = (schema.required ?? []) as string[];
        const entries = Object.entries((schema.properties ?? {}) as Record<string, Json>).filter(([name]) => required.includes(name) || this.chance(0.4));
        const own = entries.map(([name, one]): [string, unknown] => [name, this.#named(name) ?? this.value(one, root, depth + 1)]);
        const free =
          typeof schema.additionalProperties === 'object'
            ? [[this.word(), this.value(schema.additionalProperties as Json, root, depth + 1)] as [string, unknown]]
            : [];
        return Object.fromEntries([...own, ...free]);
      }
      case 'array':
        return Array.from({ length: Math.floor(this.#random() * 3) }, () => this.value((schema.items ?? {}) as Json, root, depth + 1));
      case 'integer':
      case 'number':
        return this.pick([0, 1, -1, 20, 2 ** 31, 1e15]);
      case 'boolean':
        return this.chance(0.5);
      case 'null':
        return null;
      default:
        return this.chance(0.5) ? this.pick(['a', 'tides', '2027-03-31T00:00:00.000Z', 'https://a.example/', '127.0.0.1']) : this.word();
    }
  }

  /** A name that exists, where the member is one. */
  #named(name: string): string | null {
    const known = this.#known[name] ?? [];
    return known.length > 0 && this.chance(0.6) ? this.pick(known) : null;
  }
}
