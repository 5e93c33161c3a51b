import { Fault } from '../fault.ts';

/** Shown in place of a value that may be a secret: in responses, in bundles, and in the unsealed part of a document. */
export const MASK = '(secret)';

/**
 * A document that came back with `(secret)` in places: each of them as it is stored. A text counts as unchanged only if it is what the stored one
 * looks like when masked, so that a value never moves to another host or name. Members of a list belong together by their name, else by their place.
 * @param stored the document as it is stored
 * @param masked what was shown of it
 */
export function withStoredValues(value: unknown, stored: unknown, masked: unknown): unknown {
  if (typeof value === 'string') return value.includes(MASK) && typeof stored === 'string' && (value === MASK || value === masked) ? stored : value;
  if (Array.isArray(value))
    return value.map((one, at) => {
      const from = Array.isArray(stored) ? placeOf(one, stored, at) : -1;
      return withStoredValues(one, memberOf(stored, from), memberOf(masked, from));
    });
  if (typeof value === 'object' && value !== null)
    return Object.fromEntries(Object.entries(value).map(([key, one]) => [key, withStoredValues(one, memberOf(stored, key), memberOf(masked, key))]));
  return value;
}

const memberOf = (value: unknown, key: string | number): unknown =>
  typeof value === 'object' && value !== null && Object.hasOwn(value, key) ? (value as Record<string | number, unknown>)[key] : undefined;

function placeOf(one: unknown, stored: readonly unknown[], at: number): number {
  const name = memberOf(one, 'name');
  if (typeof name !== 'string' || memberOf(stored[at], 'name') === name) return at;
  return stored.findIndex((each) => memberOf(each, 'name') === name);
}

/** Paths at which `(secret)` is left: no stored value belongs there. */
export function maskedPlaces(value: unknown, path = ''): string[] {
  if (typeof value === 'string') return value.includes(MASK) ? [path] : [];
  if (typeof value !== 'object' || value === null) return [];
  return Object.entries(value).flatMap(([key, one]) => {
    const name = Array.isArray(value) ? memberOf(one, 'name') : undefined;
    return maskedPlaces(one, [...(path === '' ? [] : [path]), typeof name === 'string' ? name : key].join('.'));
  });
}

/**
 * The input of an operator, with each `(secret)` as it is stored.
 * @param known the stored document, and what is shown of it; null: nothing is stored yet
 * @param path of the value in the request
 * @throws {Fault} INPUT_INVALID where a `(secret)` is left
 */
export function unmasked<T>(value: T, known: { stored: unknown; masked: unknown } | null, path = ''): T {
  const whole = known ? (withStoredValues(value, known.stored, known.masked) as T) : value;
  const left = maskedPlaces(whole, path);
  if (left.length > 0)
    throw new Fault('INPUT_INVALID', {
      places: left.map((one) => ({ path: one, why: `${MASK} is shown in place of a stored value, and no stored value belongs here. Enter the value.` })),
    });
  return whole;
}
