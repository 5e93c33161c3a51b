import type { ProviderDefinition } from './definition.ts';
import { labelWords, notePairs } from './note-pairs.ts';
import { fitsPattern } from './pattern.ts';
import { placeholdersFrom } from './placeholders.ts';

/**
 * What an id, a secret, a tenant look like, told by a definition. A value pasted into the wrong box is named at once, and a whole
 * notes is sorted into the fields.
 */

interface Known {
  of: string;
  pattern: string;
  says: string;
}

const shapesOf = (definition: ProviderDefinition): Known[] => [
  ...definition.shapes,
  ...definition.placeholders.flatMap((one) =>
    one.pattern && !definition.shapes.some((shape) => shape.of === one.name) ? [{ of: one.name, pattern: one.pattern, says: one.title }] : [],
  ),
];

/** A field's name as people read it: the provider's own word beside ours where there is one. */
export function fieldName(definition: ProviderDefinition, of: string): string {
  const ours: Record<string, string> = {
    client_id: 'client id',
    client_secret: 'client secret',
    secret_id: 'id of the secret (not its value)',
    audience: 'audience',
  };
  const name = ours[of] ?? definition.placeholders.find((one) => one.name === of)?.title ?? of;
  const theirs = (definition.words as Record<string, string | undefined>)[of];
  return theirs && theirs.toLowerCase() !== name.toLowerCase() ? `${name} (at the provider: ${theirs})` : name;
}

/** Shows what is odd about a value in this field, or null: it fits another field's shape and not its own. */
export function misplaced(definition: ProviderDefinition, field: string, value: string): string | null {
  const shapes = shapesOf(definition);
  const own = shapes.filter((shape) => shape.of === field);
  if (own.some((shape) => fitsPattern(shape.pattern, value))) return null;
  const other = shapes.find((shape) => shape.of !== field && fitsPattern(shape.pattern, value));
  const expected = own[0] ? ` A ${fieldName(definition, field)} looks like this: ${own[0].says}.` : '';
  if (other) return `This looks like the ${fieldName(definition, other.of)}, not the ${fieldName(definition, field)}.${expected}`;
  return own[0] ? `This does not look like a ${fieldName(definition, field)}.${expected}` : null;
}

/** One thing found in pasted notes. The value of a secret stays in here; it is for saving, never for showing. */
export interface SortedItem {
  field: string;
  line: number;
  value: string;
  why: string;
}

/** Held against a label's words; what is meant more narrowly comes first. */
const LABELS: [RegExp, string][] = [
  [/\b(expires?( at| on| in)?|expiry|expiration|valid (until|to|through|till)|ends( on| at)?|last day)\b/, 'secret_ends'],
  [/\b(redirect|callback|reply|redirection)\b.*\b(urls?|uris?|address(es)?)\b|\b(redirect|callback)$/, 'redirect_uri'],
  [/\b(secret|key) id\b/, 'secret_id'],
  [/\b(client |app |application |consumer |api )?(secret|password|key)( value)?\b/, 'client_secret'],
  [/\b(client|app|application|consumer) (id|identifier|number|key)\b|\bclientid\b/, 'client_id'],
  [/\baudience\b/, 'audience'],
  [/\bscopes?\b|\bpermissions?\b/, 'scopes'],
];
const hasWords = (label: string, words: string): boolean => words !== '' && ` ${label} `.includes(` ${words} `);

/**
 * Sorts pasted notes into the fields: by shape first, then by the label. Addresses give placeholder values. What fits nothing is listed
 * by its line, not by its text.
 */
export function sortNotes(definition: ProviderDefinition, notes: string): { items: SortedItem[]; unsorted: number[] } {
  const items: SortedItem[] = [];
  const unsorted: number[] = [];
  const shapes = shapesOf(definition);
  // Only words of fields, the longest first: “Client” must not take the line of “Client id”.
  const fields = new Set(['client_id', 'client_secret', 'redirect_uri', 'scopes', ...definition.placeholders.map((one) => one.name)]);
  const words = Object.entries(definition.words)
    .map(([of, word]): [string, string] => [of === 'scope' ? 'scopes' : of, word])
    .filter(([of]) => fields.has(of))
    .sort(([, a], [, b]) => b.length - a.length);
  const fieldOf = (label: string): string | undefined => {
    const said = labelWords(label);
    if (said === '') return undefined;
    return (
      words.find(([, word]) => hasWords(said, labelWords(word)))?.[0] ??
      definition.placeholders.find((one) => hasWords(said, labelWords(one.title)) || hasWords(said, labelWords(one.name)))?.name ??
      LABELS.find(([pattern]) => pattern.test(said))?.[1]
    );
  };
  const ofLabel = (text: string) =>
    text.length > 60 || /[,;.!?]/.test(text) || shapes.some((shape) => fitsPattern(shape.pattern, text)) ? undefined : fieldOf(text);
  for (const { label, value, line } of notePairs(notes, ofLabel)) {
    const byLabel = fieldOf(label);
    if (/^https?:\/\//i.test(value)) {
      if (byLabel === 'redirect_uri') {
        items.push({ field: 'redirect_uri', line, value, why: `its label is \u201c${label.slice(0, 40)}\u201d` });
        continue;
      }
      const found = Object.entries(placeholdersFrom(definition, value));
      for (const [field, part] of found) items.push({ field, line, value: part, why: 'read from the address' });
      if (found.length === 0) unsorted.push(line);
      continue;
    }
    const fitting = shapes.filter((shape) => fitsPattern(shape.pattern, value));
    const shape = byLabel === 'secret_ends' ? undefined : (fitting.find((one) => one.of === byLabel) ?? fitting[0]);
    const field = shape?.of ?? byLabel;
    if (field === undefined || (label === '' && !shape)) unsorted.push(line);
    else items.push({ field, line, value, why: shape ? `it looks like it: ${shape.says}` : `its label is \u201c${label.slice(0, 40)}\u201d` });
  }
  return { items, unsorted };
}
