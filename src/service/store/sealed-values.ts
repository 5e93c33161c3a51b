import { z } from 'zod';
import { id, instant, json, number, oneOf, orNull, text } from './column.ts';
import { type Bind, type Database, idBytes, idText, intervalText } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

/** Where sealed values stand: the key of the row is part of the place to which each is bound (core/sealing/envelope.ts). */
interface SealedTable {
  table: string;
  key: readonly string[];
  columns: readonly string[];
}
/** Every sealed column. A test compares it with the columns of the database. */
export const SEALED_TABLES: readonly SealedTable[] = [
  { table: 'tokens', key: ['grant_id'], columns: ['access_sealed', 'refresh_sealed'] },
  { table: 'spare_tokens', key: ['grant_id', 'epoch'], columns: ['access_sealed', 'refresh_sealed'] },
  { table: 'client_secrets', key: ['id'], columns: ['sealed'] },
  { table: 'api_sessions', key: ['grant_id'], columns: ['sealed'] },
  { table: 'revocations', key: ['grant_id'], columns: ['access_sealed', 'refresh_sealed'] },
  { table: 'consents', key: ['id'], columns: ['verifier_sealed', 'device_sealed'] },
  { table: 'saved_calls', key: ['id'], columns: ['call_document_sealed'] },
  { table: 'jobs', key: ['id'], columns: ['settings_sealed', 'hash_key_sealed', 'signing_secret_sealed'] },
  { table: 'runs', key: ['id'], columns: ['plan_sealed'] },
  { table: 'channels', key: ['id'], columns: ['url_sealed', 'secret_sealed'] },
  { table: 'event_receivers', key: ['caller_id'], columns: ['url_sealed', 'secret_sealed'] },
  { table: 'person_events', key: ['id'], columns: ['link_sealed'] },
  { table: 'mails', key: ['id'], columns: ['letter_sealed'] },
  { table: 'second_factors', key: ['id'], columns: ['secret_sealed'] },
  { table: 'identity_providers', key: ['id'], columns: ['secret_sealed'] },
  { table: 'installations', key: ['id'], columns: ['activity_key_sealed'] },
];

/** Tables of one row, whose key is a number. */
const NUMBERED = new Set(['identity_providers', 'installations']);

/** One sealed value and its place. */
export interface SealedValue {
  table: string;
  column: string;
  /** The row as its place names it. */
  row: string;
  key: readonly Bind[];
  sealed: Buffer;
}

const RESEAL = {
  id,
  keyId: id,
  state: oneOf(['running', 'done']),
  /** The table under way, and its last row that was looked at. */
  position: json(z.object({ table: z.number().int(), after: z.array(z.string()).nullable() })),
  done: number,
  total: number,
  startedBy: text,
  startedAt: instant,
  endedAt: orNull(instant),
  busyUntil: orNull(instant),
};
export type ResealRow = RowOf<typeof RESEAL>;

/** Sealed values, whatever they are: which key seals them, and re-sealing them. */
export interface SealedValueStore {
  /** How many values each data key seals now. A retired secret leaves an empty value, which nothing seals. */
  countByKey(): Promise<Map<string, number>>;
  /** The next rows of a table with values that this key does not seal. @param after key of the last row seen, as text */
  next(table: number, after: readonly string[] | null, keyId: string, most: number): Promise<{ values: SealedValue[]; last: string[] | null }>;
  /** Replaces it, if it is still the one that was read: what was written meanwhile stays. */
  replace(value: SealedValue, sealed: Buffer): Promise<boolean>;
  reseal(): Promise<ResealRow | null>;
  begin(row: ResealRow): Promise<void>;
  /** Takes the work for so long; false: another replica has it. */
  claim(resealId: string, forMs: number): Promise<boolean>;
  advance(resealId: string, set: Partial<ResealRow>): Promise<void>;
}

/** The key id of an envelope: `version(1) | key id(16) | …`. */
const keyOf = (column: string): string => `SUBSTRING(${column}, 2, 16)`;
const isId = (name: string): boolean => name !== 'epoch';

export function sealedValueStore(database: Database): SealedValueStore {
  const table = defineTable(database, 'reseals', RESEAL, { primaryKey: ['id'] });
  const keyText = (value: unknown): string => (Buffer.isBuffer(value) ? idText(value) : String(value));
  const keyBind = (of: SealedTable, name: string, value: string): Bind => (!NUMBERED.has(of.table) && isId(name) ? idBytes(value) : Number(value));
  return {
    async countByKey() {
      const counts = new Map<string, number>();
      for (const of of SEALED_TABLES)
        for (const column of of.columns)
          for (const row of await database.select<{ k: Buffer; n: number | bigint }>(
            `SELECT ${keyOf(column)} AS k, COUNT(*) AS n FROM ${of.table} WHERE LENGTH(${column}) > 0 GROUP BY k`,
          ))
            counts.set(idText(row.k), (counts.get(idText(row.k)) ?? 0) + Number(row.n));
      return counts;
    },
    async next(index, after, keyId, most) {
      const of = SEALED_TABLES[index];
      if (!of) return { values: [], last: null };
      const bind: Bind[] = [];
      const [first = '', second] = of.key;
      const place = (name: string, at: number): string => `$${bind.push(keyBind(of, name, after?.[at] ?? ''))}`;
      const beyond =
        after === null
          ? 'TRUE'
          : second === undefined
            ? `${first} > ${place(first, 0)}`
            : `(${first} > ${place(first, 0)} OR (${first} = ${place(first, 0)} AND ${second} > ${place(second, 1)}))`;
      const rows = await database.select<Record<string, unknown>>(
        `SELECT ${[...of.key, ...of.columns].join(', ')} FROM ${of.table} WHERE ${beyond} ORDER BY ${of.key.join(', ')} LIMIT ${Math.floor(most)}`,
        bind,
      );
      const wanted = idBytes(keyId);
      const values = rows.flatMap((row) =>
        of.columns.flatMap((column): SealedValue[] => {
          const sealed = row[column];
          if (!Buffer.isBuffer(sealed) || sealed.length === 0 || sealed.subarray(1, 17).equals(wanted)) return [];
          const key = of.key.map((name) => (Buffer.isBuffer(row[name]) ? row[name] : Number(row[name])));
          return [{ table: of.table, column, row: of.key.map((name) => keyText(row[name])).join('/'), key, sealed }];
        }),
      );
      const last = rows.at(-1);
      return { values, last: last ? of.key.map((name) => keyText(last[name])) : null };
    },
    async replace({ table: name, column, key, sealed: former }, sealed) {
      const of = SEALED_TABLES.find((one) => one.table === name && one.columns.includes(column));
      if (!of) return false;
      const bind: Bind[] = [sealed];
      const where = of.key.map((part, at) => `${part} = $${bind.push(key[at] ?? null)}`).join(' AND ');
      return (await database.write(`UPDATE ${of.table} SET ${column} = $1 WHERE ${where} AND ${column} = $${bind.push(former)}`, bind)) > 0;
    },
    reseal: async () => (await table.list({}, { orderBy: 'startedAt' })).at(-1) ?? null,
    begin: (row) => table.insert(row),
    claim: async (resealId, forMs) =>
      (await database.write(
        `UPDATE reseals SET busy_until = UTC_TIMESTAMP(3) + ${intervalText(forMs)}
         WHERE id = $1 AND state = 'running' AND (busy_until IS NULL OR busy_until < UTC_TIMESTAMP(3))`,
        [idBytes(resealId)],
      )) > 0,
    advance: async (resealId, set) => void (await table.change({ id: resealId }, set)),
  };
}
