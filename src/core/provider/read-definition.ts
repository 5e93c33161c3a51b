import { isAlias, isScalar, LineCounter, parseDocument, stringify, visit } from 'yaml';
import type { z } from 'zod';
import { Fault, type FaultPlace } from '../fault.ts';
import { ProviderDefinition, whyUnsupported } from './definition.ts';

/** The longest definition file taken, in characters. */
export const DEFINITION_LIMIT = 200_000;

/**
 * Reads a definition file, YAML or JSON (JSON is YAML 1.2), and names every wrong place with its line.
 * @throws {Fault} DEFINITION_INVALID, DEFINITION_UNSUPPORTED
 */
export function readDefinition(text: string): ProviderDefinition {
  if (text.length > DEFINITION_LIMIT) throw new Fault('DEFINITION_INVALID', { detail: `It is longer than ${DEFINITION_LIMIT} characters.` });
  const lines = new LineCounter();
  const document = parseDocument(text, { lineCounter: lines, uniqueKeys: false });
  const broken = [...document.errors, ...doubleKeys(document)].map((error) => ({
    path: '',
    line: lines.linePos(error.pos[0]).line,
    why: firstLine(error.message),
  }));
  if (broken.length > 0) throw new Fault('DEFINITION_INVALID', { detail: 'It is neither YAML nor JSON.', places: broken });
  visit(document, {
    Node(_key, node) {
      if (isAlias(node)) throw new Fault('DEFINITION_INVALID', { detail: 'YAML aliases are not taken: write the value out.' });
    },
  });
  const plain: unknown = document.toJS();
  const read = ProviderDefinition.safeParse(plain);
  if (!read.success) {
    const places = read.error.issues.map((issue) => place(issue, (path) => lineOf(document, lines, path)));
    throw new Fault('DEFINITION_INVALID', { places });
  }
  const unsupported = whyUnsupported(read.data);
  if (unsupported) throw new Fault('DEFINITION_UNSUPPORTED', { detail: unsupported });
  return read.data;
}

/** Lists that mean something when they are empty: if one were left out, its default would be read back. A test compares them with the schema. */
export const EMPTY_LISTS_KEPT: ReadonlySet<string> = new Set([
  'response_types_supported',
  'grant_types_supported',
  'code_challenge_methods_supported',
  'token_endpoint_auth_signing_alg_values_supported',
  'prompt_values_supported',
  'dpop_signing_alg_values_supported',
  'approved',
  'rejected',
  'scopes',
]);

/** A definition as YAML, for people to read and change; empty lists and objects are left out where that means the same. */
export const definitionText = (document: unknown): string =>
  stringify(document, (key, value: unknown) => (isEmpty(value) && !EMPTY_LISTS_KEPT.has(String(key)) ? undefined : value), { lineWidth: 160 });

const isEmpty = (value: unknown): boolean =>
  Array.isArray(value) ? value.length === 0 : typeof value === 'object' && value !== null && Object.keys(value).length === 0;

/** JSON or YAML as plain data, bounded in size and free of aliases, which can unfold without bound. @throws {Fault} */
export function readPlainDocument(text: string, limit: number, fault: 'OPENAPI_WRONG' | 'METADATA_WRONG' | 'DEFINITION_INVALID'): unknown {
  if (text.length > limit) throw new Fault(fault, { detail: `It is longer than ${limit} characters.` });
  if (/^\s*[{[]/.test(text))
    try {
      return JSON.parse(text); // many times faster than YAML, and most documents are JSON
    } catch {
      // perhaps it is YAML in flow style
    }
  const document = parseDocument(text, { uniqueKeys: false });
  const [broken] = [...document.errors, ...doubleKeys(document)];
  if (broken) throw new Fault(fault, { detail: `It is neither YAML nor JSON: ${firstLine(broken.message)}` });
  visit(document, {
    Node(_key, node) {
      if (isAlias(node)) throw new Fault(fault, { detail: 'YAML aliases are not taken: they can unfold without bound.', remedy: 'Convert it to JSON first.' });
    },
  });
  return document.toJS();
}

/** Keys that stand twice in one map. The parser's own check compares each key with each other one: 20,000 of them take 15 s. */
function doubleKeys(document: ReturnType<typeof parseDocument>): { pos: [number, number]; message: string }[] {
  const found: { pos: [number, number]; message: string }[] = [];
  visit(document, {
    Map(_key, map) {
      const seen = new Set<string>();
      for (const { key } of map.items) {
        if (!isScalar(key)) continue;
        const name = String(key.value);
        if (seen.has(name)) found.push({ pos: [key.range?.[0] ?? 0, key.range?.[1] ?? 0], message: `The key ${name.slice(0, 60)} stands twice.` });
        seen.add(name);
      }
    },
  });
  return found;
}

function place(issue: z.core.$ZodIssue, line: (path: PropertyKey[]) => number | undefined): FaultPlace {
  const path = issue.code === 'unrecognized_keys' ? [...issue.path, issue.keys[0] ?? ''] : issue.path;
  const at = line(path) ?? line(issue.path);
  return { path: path.map(String).join('.') || '(the whole file)', why: issue.message, ...(at === undefined ? {} : { line: at }) };
}

function lineOf(document: ReturnType<typeof parseDocument>, lines: LineCounter, path: PropertyKey[]): number | undefined {
  for (let depth = path.length; depth > 0; depth -= 1) {
    const node: unknown = document.getIn(path.slice(0, depth), true);
    const range = (node as { range?: [number, number, number] } | undefined)?.range;
    if (range) return lines.linePos(range[0]).line;
  }
  return undefined;
}

const firstLine = (text: string): string => text.split('\n', 1)[0] ?? text;
