import { type DataType, DataTypes } from 'sequelize';
import { z } from 'zod';
import { Fault } from '../../core/fault.ts';
import { idBytes, idText } from './database.ts';

/**
 * What a column holds: how a value is stored, and how it is read and checked. `read` throws where a stored value does not fit; the table
 * adds its name, the column and the row.
 */
export interface Column<T> {
  type: DataType;
  nullable: boolean;
  read(stored: unknown): T;
  write(value: T): unknown;
}
/** The type of a column's values. */
export type ValueOf<C> = C extends Column<infer T> ? T : never;

const misfit = (expected: string): never => {
  throw new Error(`it is not ${expected}`);
};
const column = <T>(type: DataType, read: (stored: unknown) => T, write: (value: T) => unknown = (value) => value): Column<T> => ({
  type,
  nullable: false,
  read: (stored) => (stored === null || stored === undefined ? misfit('allowed to be empty') : read(stored)),
  write,
});

/** A UUID, stored as 16 bytes. */
export const id = column<string>(DataTypes.BLOB, (stored) => (Buffer.isBuffer(stored) ? idText(stored) : misfit('an ID')), idBytes);
export const text = column<string>(DataTypes.TEXT, String);
export const number = column<number>(DataTypes.BIGINT, (stored) => (Number.isFinite(Number(stored)) ? Number(stored) : misfit('a number')));
export const flag = column<boolean>(DataTypes.BOOLEAN, Boolean);
/** Epoch ms, stored as DATETIME(3) in UTC. */
export const instant = column<number>(
  DataTypes.DATE(3),
  (stored) => (stored instanceof Date ? stored.getTime() : misfit('an instant')),
  (at) => new Date(at),
);
/** Bytes: hashes, and what is sealed. */
export const bytes = column<Buffer>(DataTypes.BLOB, (stored) => (Buffer.isBuffer(stored) ? stored : misfit('bytes')));

/** One word of a closed list. */
export const oneOf = <const W extends string>(words: readonly W[]): Column<W> => {
  const known = new Map<unknown, W>(words.map((word) => [word, word]));
  return column<W>(DataTypes.TEXT, (stored) => known.get(stored) ?? misfit(`one of ${words.join(', ')}: ${String(stored).slice(0, 40)}`));
};

/** A value as JSON text, checked against a schema whenever it is read. */
export const json = <T>(schema: z.ZodType<T>): Column<T> =>
  column<T>(
    DataTypes.TEXT,
    (stored) => {
      const read = schema.safeParse(JSON.parse(String(stored)));
      return read.success ? read.data : misfit(`of the expected form (${z.prettifyError(read.error).slice(0, 200)})`);
    },
    (value) => JSON.stringify(value),
  );

/** A document of this product's own that earlier versions wrote with fewer members: these are there, whatever else is. */
export const documentWith = <T extends object>(...members: (keyof T & string)[]): z.ZodType<T> =>
  z.custom<T>((value) => typeof value === 'object' && value !== null && members.every((member) => member in value), `lacks one of ${members.join(', ')}`);

export const orNull = <T>(one: Column<T>): Column<T | null> => ({
  type: one.type,
  nullable: true,
  read: (stored) => (stored === null || stored === undefined ? null : one.read(stored)),
  write: (value) => (value === null ? null : one.write(value)),
});

/** Null in rows of earlier versions: read as `value`. */
export const orElse = <T>(one: Column<T>, value: T): Column<T> => ({
  ...one,
  nullable: true,
  read: (stored) => (stored === null || stored === undefined ? value : one.read(stored)),
});

// biome-ignore lint/suspicious/noExplicitAny: a column of any value
export type Columns = Record<string, Column<any>>;
export type RowOf<C extends Columns> = { -readonly [K in keyof C]: ValueOf<C[K]> };

interface Place {
  table: string;
  column: string;
  row: string;
}
const misread = (cause: unknown, { table, column, row }: Place): Fault => {
  const why = cause instanceof Error ? cause.message : 'it cannot be read';
  return new Fault('RECORD_INVALID', { detail: `${table}.${column} of ${row}: ${why}.` });
};

const nameOf = (value: unknown): string => (Buffer.isBuffer(value) ? idText(value) : String(value));

/** Reads a value for a row. @throws {Fault} RECORD_INVALID, naming the table, the column and the row */
export function readColumn<T>(one: Column<T>, stored: unknown, place: Place): T {
  try {
    return one.read(stored);
  } catch (cause) {
    throw misread(cause, place);
  }
}

/**
 * Reads the rows of a table, or of a hand-written statement that names its columns as `columns` does.
 * @param named the columns whose values name the row in an error
 * @throws {Fault} RECORD_INVALID, from the reader
 */
export function rowReader<const C extends Columns>(
  table: string,
  columns: C,
  ...named: readonly (keyof C & string)[]
): (stored: Readonly<Record<string, unknown>>) => RowOf<C> {
  const all = Object.entries(columns);
  return (stored) => {
    const row: Record<string, unknown> = {};
    let column = '';
    try {
      for (const [name, one] of all) {
        column = name;
        row[name] = one.read(stored[name]);
      }
    } catch (cause) {
      throw misread(cause, { table, column, row: named.map((key) => nameOf(stored[key])).join('/') });
    }
    return row as RowOf<C>;
  };
}

export const textList = json(z.array(z.string()));
export const textMap = json(z.record(z.string(), z.string()));
/** A document of any members. */
export const document = json(z.record(z.string(), z.unknown()));
/** Words with spaces between them, as `GROUP_CONCAT` makes them; null: none. */
export const words = orElse(
  column<string[]>(
    DataTypes.TEXT,
    (stored) => String(stored).split(' '),
    (list) => list.join(' '),
  ),
  [],
);
