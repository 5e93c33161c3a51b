import { z } from 'zod';
import { at } from '../json.ts';
import { jsonPointer, printable } from '../provider/web-address.ts';

/** How a job collects only what is new. */
export const Since = z.discriminatedUnion('kind', [
  z.strictObject({
    kind: z.literal('run_start'),
    parameter: printable(60).describe('The query parameter for the start of what is wanted'),
    format: z.enum(['date', 'datetime', 'seconds']).default('datetime'),
    overlap_minutes: z.number().int().min(0).max(10_080).default(5).describe('Asked for again, for records that appear late'),
  }),
  z.strictObject({
    kind: z.literal('field'),
    parameter: printable(60),
    field: jsonPointer.describe('The field of which the highest value seen is sent'),
  }),
  z.strictObject({ kind: z.literal('ids') }),
]);
export type Since = z.output<typeof Since>;

/** What a run leaves for the next one. */
export interface Mark {
  /** When it began, epoch ms. */
  startedAt: number;
  highest: string | null;
}

/** The value of the parameter for a run after `mark`; null: collect everything. */
export function sinceValue(since: Since, mark: Mark | null): { parameter: string; value: string } | null {
  if (mark === null || since.kind === 'ids') return null;
  if (since.kind === 'field') return mark.highest === null ? null : { parameter: since.parameter, value: mark.highest };
  const from = mark.startedAt - since.overlap_minutes * 60_000;
  const text = new Date(from).toISOString();
  const value = since.format === 'seconds' ? String(Math.floor(from / 1000)) : since.format === 'date' ? text.slice(0, 10) : `${text.slice(0, 19)}Z`;
  return { parameter: since.parameter, value };
}

/** The higher of a mark and a record's field: numbers by value, text by its code units, as dates in ISO form compare. */
export function maxFieldValue(highest: string | null, record: unknown, field: string): string | null {
  const value = at(record, field);
  if (typeof value !== 'string' && typeof value !== 'number') return highest;
  const text = String(value);
  if (highest === null) return text;
  const [a, b] = [Number(highest), Number(text)];
  const isHigher = highest !== '' && text !== '' && Number.isFinite(a) && Number.isFinite(b) ? b > a : text > highest;
  return isHigher ? text : highest;
}
