import { stringify } from 'csv-stringify/sync';
import { z } from 'zod';
import type { Format } from './formats.ts';
import { cellAt, flatten } from './record.ts';

export const Column = z.strictObject({
  field: z.string().min(1).max(200).describe('A field as it is flattened, such as guest.name'),
  title: z.string().min(1).max(200).optional().describe('The heading; left out: the field'),
});
export type Column = z.output<typeof Column>;

/** How records are written. CSV by RFC 4180. */
export const Layout = z.strictObject({
  columns: z.array(Column).max(300).default([]).describe('Chosen columns in their order; empty: all, in the order in which they first appear'),
  delimiter: z.enum([',', ';', '\t', '|']).default(','),
  bom: z.boolean().default(false).describe('Begin CSV with a byte order mark; some spreadsheets need it for UTF-8'),
  guard: z.boolean().default(true).describe('Write cells that a spreadsheet would take for a formula with a leading apostrophe'),
});
export type Layout = z.output<typeof Layout>;

/** Characters with which spreadsheets begin a formula, also full-width ones and behind blanks. A number with a sign stays a number. */
const FORMULA = /^(?:\t|\s*[=+\-@\uff1d\uff0b\uff0d\uff20])/u;
const NUMBER = /^[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?$/;
/** Every line of a cell: a reader that knows no quotes takes each for a row of its own. */
export const guarded = (text: string): string =>
  text
    .split(/(\r\n|\r|\n)/)
    .map((line, at) => (at % 2 === 0 && FORMULA.test(line) && !NUMBER.test(line) ? `'${line}` : line))
    .join('');

/** The package quotes its own record delimiter only; a lone line break ends a row for most readers (RFC 4180 §2.6). */
const LINE_BREAK = /[\r\n]/;

const cellOf = (value: unknown, guard: boolean): string => {
  if (value === null || value === undefined) return '';
  const text = typeof value === 'string' ? value : String(value);
  return guard && typeof value === 'string' ? guarded(text) : text;
};

/** All columns of records, in the order in which they first appear; `known` come first. */
export function columnsIn(records: readonly unknown[], known: readonly string[] = []): string[] {
  const names = new Set(known);
  for (const record of records) for (const name of flatten(record).keys()) names.add(name);
  return [...names];
}

/** A record's cells, in the order of the columns. */
export const rowOf = (record: unknown, columns: readonly Column[], guard: boolean): string[] =>
  columns.map(({ field }) => cellOf(cellAt(record, field), guard));

/** What is written for a file, part by part: text before the first record, for each batch of records, and after the last. */
export interface Writer {
  head(): string;
  /** `isFirst`: nothing was written after the head. */
  batch(records: readonly unknown[], isFirst: boolean): string;
  tail(): string;
}

/** @param all the columns found in all records, where the layout names none */
export function writerOf(format: Format, layout: Layout, all: readonly string[]): Writer {
  if (format === 'ndjson')
    return { head: () => '', batch: (records) => records.map((one) => `${JSON.stringify(chosen(one, layout))}\n`).join(''), tail: () => '' };
  if (format === 'json')
    return {
      head: () => '[',
      batch: (records, isFirst) => records.map((one, at) => `${isFirst && at === 0 ? '\n' : ',\n'}${JSON.stringify(chosen(one, layout))}`).join(''),
      tail: () => '\n]\n',
    };
  const columns = layout.columns.length > 0 ? layout.columns : all.map((field) => ({ field }));
  const write = (rows: string[][], bom = false) => stringify(rows, { delimiter: layout.delimiter, bom, record_delimiter: '\r\n', quoted_match: LINE_BREAK });
  const title = (column: Column) => cellOf(column.title ?? column.field, layout.guard);
  return {
    head: () => (columns.length === 0 ? '' : write([columns.map(title)], layout.bom)),
    batch: (records) => (records.length === 0 || columns.length === 0 ? '' : write(records.map((one) => rowOf(one, columns, layout.guard)))),
    tail: () => '',
  };
}

/** JSON with chosen columns: their flattened values under their titles. Without a choice: the record as it came. */
function chosen(record: unknown, layout: Layout): unknown {
  if (layout.columns.length === 0) return record;
  return Object.fromEntries(layout.columns.map(({ field, title }) => [title ?? field, cellAt(record, field) ?? null]));
}
