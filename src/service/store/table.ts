import { DataTypes, literal, type Model, type ModelStatic, Op, type Transaction, type WhereOptions } from 'sequelize';
import { type Columns, type RowOf, rowReader } from './column.ts';
import type { Database } from './database.ts';

export type { RowOf } from './column.ts';

/**
 * An ordinary table: a Sequelize model behind five plain verbs, for the repositories of this folder. Here bytes become ids, `Date` becomes
 * epoch ms, and JSON text becomes values.
 */
/** What rows are matched by: a value, or a list of values of which it is one. */
type Match<Row> = { [K in keyof Row]?: Row[K] | readonly Row[K][] };

export interface Table<Row> {
  insert(row: Row, transaction?: Transaction): Promise<void>;
  find(where: Match<Row>, transaction?: Transaction): Promise<Row | null>;
  list(where?: Match<Row>, options?: { orderBy?: keyof Row & string; limit?: number }): Promise<Row[]>;
  count(where?: Match<Row>): Promise<number>;
  /** Changes the rows that match; the count of rows changed. */
  change(where: Match<Row>, set: Partial<Row>, transaction?: Transaction): Promise<number>;
  remove(where: Match<Row>, transaction?: Transaction): Promise<number>;
}

/**
 * @param withEachChange columns that rows do not show, set by these SQL expressions with every change
 * @throws {Fault} RECORD_INVALID, from what reads: a stored value that does not fit its column
 */
export function defineTable<const C extends Columns>(
  database: Database,
  name: string,
  columns: C,
  { primaryKey, withEachChange = {} }: { primaryKey: (keyof C & string)[]; withEachChange?: Readonly<Record<string, string>> },
): Table<RowOf<C>> {
  type Row = RowOf<C>;
  const attributes = Object.fromEntries([
    ...Object.entries(columns).map(([key, { type, nullable }]) => [key, { type, primaryKey: primaryKey.includes(key), allowNull: nullable || undefined }]),
    ...Object.keys(withEachChange).map((key) => [key, { type: DataTypes.TEXT }]),
  ]);
  const along = Object.fromEntries(Object.entries(withEachChange).map(([key, expression]) => [key, literal(expression)]));
  const model = database.sequelize.define(name, attributes as never, { tableName: name }) as ModelStatic<Model>;
  const shown = Object.keys(columns);
  const stored = (key: string, value: unknown): unknown => (value === null || value === undefined ? value : columns[key]?.write(value));
  const toStored = (row: Partial<Row>): Record<string, unknown> => Object.fromEntries(Object.entries(row).map(([key, value]) => [key, stored(key, value)]));
  const where = (match: Match<Row>): WhereOptions =>
    Object.fromEntries(
      Object.entries(match).map(([key, value]) => [key, Array.isArray(value) ? { [Op.in]: value.map((one) => stored(key, one)) } : stored(key, value)]),
    );
  const read = rowReader(name, columns, ...primaryKey);
  const toRow = (found: Model): Row => read(found.get({ plain: true }));
  const { guarded, around } = database;
  const within = (transaction = around()) => (transaction ? { transaction } : {});
  return {
    insert: (row, transaction) => guarded(async () => void (await model.create(toStored(row), within(transaction))), transaction),
    find: (match, transaction) =>
      guarded(async () => {
        const found = await model.findOne({ attributes: shown, where: where(match), ...within(transaction) });
        return found ? toRow(found) : null;
      }, transaction),
    list: (match = {}, { orderBy, limit } = {}) =>
      guarded(async () =>
        (
          await model.findAll({
            attributes: shown,
            where: where(match),
            ...(orderBy ? { order: [[orderBy, 'ASC']] } : {}),
            ...(limit === undefined ? {} : { limit }),
            ...within(),
          })
        ).map(toRow),
      ),
    count: (match = {}) => guarded(() => model.count({ where: where(match), ...within() })),
    change: (match, set, transaction) =>
      guarded(async () => (await model.update({ ...toStored(set), ...along }, { where: where(match), ...within(transaction) }))[0], transaction),
    remove: (match, transaction) => guarded(() => model.destroy({ where: where(match), ...within(transaction) }), transaction),
  };
}
