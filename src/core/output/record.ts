import { createHmac } from 'node:crypto';
import { z } from 'zod';

/** What becomes of a personal field before anything is kept. `hash`: a keyed hash, so that the same person stays the same. */
const PRIVACY = ['drop', 'mask', 'hash'] as const;
const fieldName = z.string().min(1).max(200);
export const PersonalField = z.strictObject({
  field: fieldName.describe('A field, such as guest.email; what lies below it is meant too'),
  rule: z.enum(PRIVACY),
});
export type PersonalField = z.output<typeof PersonalField>;

type Plain = Record<string, unknown>;
const isObject = (value: unknown): value is Plain => typeof value === 'object' && value !== null && !Array.isArray(value);

/** `ab…` for a short view of what was there: first letters only, never more than a third of it. */
const masked = (value: unknown): string | null => {
  if (value === null || value === undefined) return null;
  const text = typeof value === 'string' ? value : JSON.stringify(value);
  return `${text.slice(0, Math.min(2, Math.floor(text.length / 3)))}\u2026`;
};
const hashed = (value: unknown, key: Uint8Array): string | null =>
  value === null || value === undefined
    ? null
    : createHmac('sha256', key)
        .update(typeof value === 'string' ? value : JSON.stringify(value))
        .digest('hex')
        .slice(0, 24);

/** A record without what is personal in it; lists are followed into each of their members. @param key for `hash` */
export function withoutPersonal(record: unknown, fields: readonly PersonalField[], key: Uint8Array): unknown {
  return fields.reduce((value, { field, rule }) => change(value, field, rule, key), record);
}

/**
 * A field is addressed in one way, for rules, columns and filters: `guest.mail` is the member `mail` of `guest`, and as well a member that has
 * the dot in its own name. What remains of a field below a member; null: the field does not lead there; empty: it is the member itself.
 */
const below = (field: string, member: string): string | null =>
  field === member ? '' : member !== '' && field.startsWith(`${member}.`) ? field.slice(member.length + 1) : null;

function change(value: unknown, field: string, rule: PersonalField['rule'], key: Uint8Array): unknown {
  if (Array.isArray(value)) return value.map((one) => change(one, field, rule, key));
  if (!isObject(value)) return value;
  // Written by entries: a member named __proto__ stays a member.
  const entries = Object.entries(value).flatMap(([name, inner]): [string, unknown][] => {
    const rest = below(field, name);
    if (rest === null) return [[name, inner]];
    if (rest !== '') return [[name, change(inner, rest, rule, key)]];
    return rule === 'drop' ? [] : [[name, rule === 'mask' ? masked(inner) : hashed(inner, key)]];
  });
  return Object.fromEntries(entries);
}

/**
 * Nested fields as columns, by one rule: objects become `outer.inner`, lists become JSON text, and an empty object is an empty cell. A
 * record that is no object has one column, `value`.
 */
export function flatten(record: unknown): Map<string, unknown> {
  const cells = new Map<string, unknown>();
  const put = (value: unknown, name: string, depth: number): void => {
    if (isObject(value) && depth < 8) {
      for (const [inner, below] of Object.entries(value)) put(below, name === '' ? inner : `${name}.${inner}`, depth + 1);
      return;
    }
    const at = name === '' ? 'value' : name;
    // Two members of one record may have one name: the cell is the one that a column shows.
    cells.set(at, cells.has(at) ? cellAt(record, at) : Array.isArray(value) || isObject(value) ? JSON.stringify(value) : value);
  };
  put(record, '', 0);
  return cells;
}

/** One cell by the rule of `flatten`, without making the others: a million records have ten of them each. */
export function cellAt(record: unknown, field: string): unknown {
  if (!isObject(record)) return field === 'value' ? shownValue(record) : undefined;
  if (Object.hasOwn(record, field)) return isObject(record[field]) ? undefined : shownValue(record[field]);
  for (let dot = field.indexOf('.'); dot >= 0; dot = field.indexOf('.', dot + 1)) {
    const head = field.slice(0, dot);
    const inner = Object.hasOwn(record, head) ? record[head] : undefined;
    const cell = isObject(inner) ? cellAt(inner, field.slice(dot + 1)) : undefined;
    if (cell !== undefined) return cell;
  }
  return undefined;
}
const shownValue = (value: unknown): unknown => (Array.isArray(value) ? JSON.stringify(value) : value);
