import { DataTypes, type Model, type ModelStatic, Op, type Transaction, type WhereOptions } from 'sequelize';
import { type Database, idBytes, idText } from './database.ts';

/**
 * The ordinary tables, each a Sequelize model behind five plain verbs. Here, and only here, bytes become ids, `Date` becomes
 * epoch ms, and JSON text becomes values. A kind that ends in `?` may be null.
 */
interface Kinds {
  id: string;
  'id?': string | null;
  text: string;
  'text?': string | null;
  number: number;
  'number?': number | null;
  flag: boolean;
  instant: number;
  'instant?': number | null;
  json: unknown;
  bytes: Buffer;
  'bytes?': Buffer | null;
}
type Kind = keyof Kinds;
type Columns = Record<string, Kind>;
export type RowOf<C extends Columns> = { -readonly [K in keyof C]: Kinds[C[K]] };

export interface Table<Row> {
  insert(row: Row, transaction?: Transaction): Promise<void>;
  find(where: Partial<Row>, transaction?: Transaction): Promise<Row | null>;
  list(where?: Partial<Row>, orderBy?: keyof Row & string): Promise<Row[]>;
  /** Changes the rows that match; the count of rows changed. */
  change(where: Partial<Row>, set: Partial<Row>, transaction?: Transaction): Promise<number>;
  remove(where: Partial<Row>, transaction?: Transaction): Promise<number>;
}

const TYPES: Record<string, () => unknown> = {
  id: () => DataTypes.BLOB,
  bytes: () => DataTypes.BLOB,
  text: () => DataTypes.TEXT,
  json: () => DataTypes.TEXT,
  number: () => DataTypes.BIGINT,
  flag: () => DataTypes.BOOLEAN,
  instant: () => DataTypes.DATE(3),
};

const bare = (kind: Kind): string => kind.replace('?', '');

export function defineTable<const C extends Columns>(database: Database, name: string, columns: C, primaryKey: (keyof C & string)[]): Table<RowOf<C>> {
  type Row = RowOf<C>;
  const attributes = Object.fromEntries(
    Object.entries(columns).map(([column, kind]) => [
      column,
      { type: TYPES[bare(kind)]?.(), primaryKey: primaryKey.includes(column), allowNull: kind.endsWith('?') || undefined },
    ]),
  );
  const model = database.sequelize.define(name, attributes as never, { tableName: name }) as ModelStatic<Model>;
  const toStored = (row: Partial<Row>): Record<string, unknown> =>
    Object.fromEntries(Object.entries(row).map(([column, value]) => [column, store(columns[column] ?? 'text', value)]));
  const toRow = (stored: Model): Row => {
    const raw = stored.get({ plain: true }) as Record<string, unknown>;
    return Object.fromEntries(Object.entries(columns).map(([column, kind]) => [column, load(kind, raw[column])])) as Row;
  };
  const where = (row: Partial<Row>) => toStored(row) as WhereOptions;
  const { guarded } = database;
  const within = (transaction?: Transaction) => (transaction ? { transaction } : {});
  return {
    insert: (row, transaction) => guarded(async () => void (await model.create(toStored(row), within(transaction))), transaction),
    find: (match, transaction) =>
      guarded(async () => {
        const found = await model.findOne({ where: where(match), ...within(transaction) });
        return found ? toRow(found) : null;
      }, transaction),
    list: (match = {}, orderBy) =>
      guarded(async () => (await model.findAll({ where: where(match), ...(orderBy ? { order: [[orderBy, 'ASC']] } : {}) })).map(toRow)),
    change: (match, set, transaction) =>
      guarded(async () => (await model.update(toStored(set), { where: where(match), ...within(transaction) }))[0], transaction),
    remove: (match, transaction) => guarded(() => model.destroy({ where: where(match), ...within(transaction) }), transaction),
  };
}

function store(kind: Kind, value: unknown): unknown {
  if (value === null || value === undefined) return value;
  if (Array.isArray(value) && bare(kind) !== 'json') return { [Op.in]: value.map((one) => store(kind, one)) };
  switch (bare(kind)) {
    case 'id':
      return idBytes(String(value));
    case 'instant':
      return new Date(Number(value));
    case 'json':
      return JSON.stringify(value);
    default:
      return value;
  }
}

function load(kind: Kind, value: unknown): unknown {
  if (value === null || value === undefined) return null;
  switch (bare(kind)) {
    case 'id':
      return idText(value as Buffer);
    case 'instant':
      return (value as Date).getTime();
    case 'json':
      return JSON.parse(String(value)) as unknown;
    case 'flag':
      return Boolean(value);
    case 'number':
      return Number(value);
    default:
      return value;
  }
}
