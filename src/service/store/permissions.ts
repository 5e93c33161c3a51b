import { LRUCache } from 'lru-cache';
import { PEOPLE_RIGHTS, type Permission as Rule, USES } from '../../core/callers/permissions.ts';
import { staleWhileRevalidate } from '../stale-while-revalidate.ts';
import { id, number, oneOf, orElse, orNull, readColumn, text, textList } from './column.ts';
import { type Bind, type Database, idBytes, idText } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const COLUMNS = {
  id,
  callerId: id,
  connectionId: orNull(id),
  label: orNull(text),
  useAs: oneOf(USES),
  methods: orElse(textList, []),
  paths: orElse(textList, []),
  share: orNull(number),
  people: oneOf(PEOPLE_RIGHTS),
};
type PermissionRow = RowOf<typeof COLUMNS>;

/** Connections by name, the first of them, and how many there are. */
export interface NamesAndTotal {
  names: string[];
  total: number;
}
interface ShownPermission {
  id: string;
  connection: string | null;
  label: string | null;
  rule: Rule;
}

/** What callers may use: connections by name, and all with a label. */
export interface PermissionStore {
  /** What a caller may use now: the first `most` by name, and how many. */
  connectionsOf(callerRecordId: string, most: number): Promise<NamesAndTotal>;
  /** What has a label now: the first `most` by name, and how many; where there are many, counted up to a few seconds ago. */
  labelled(label: string, most: number): Promise<NamesAndTotal>;
  /** Every permission of a caller, those by name first. */
  of(callerRecordId: string): Promise<ShownPermission[]>;
  /** What a caller may do with one connection, by name and by label. */
  rulesFor(callerRecordId: string, connectionId: string): Promise<Rule[]>;
  byId(callerRecordId: string, permissionId: string): Promise<PermissionRow | null>;
  /** Makes these connections the ones permitted by name: new ones are added by `make`, what is left out is withdrawn. */
  setNamed(callerRecordId: string, connectionIds: ReadonlySet<string>, make: (connectionId: string) => PermissionRow): Promise<void>;
  /** Adds it, or changes the rule of one for the same connection or label. */
  put(row: PermissionRow): Promise<void>;
  remove(permissionId: string): Promise<void>;
  /** The labels by which a caller may use these connections. */
  labelsUsed(callerRecordId: string, connectionIds: readonly string[]): Promise<{ connectionId: string; label: string }[]>;
  /** Callers with a share of the quota of this connection, by name. */
  sharesOf(connectionId: string): Promise<{ callerId: string; caller: string; share: number }[]>;
}

interface StoredRule {
  use_as: string;
  methods: string | null;
  paths: string | null;
  share: number | null;
  people: string;
}
/** The columns of a rule, of the table with this alias. */
export const ruleColumns = (alias: string): string => ['use_as', 'methods', 'paths', 'share', 'people'].map((column) => `${alias}.${column}`).join(', ');
/** The rule of a permission, checked. @param of what it is for, which names the row in an error @throws {Fault} RECORD_INVALID */
export const ruleOf = (row: StoredRule, of: string): Rule => {
  const place = (column: string) => ({ table: 'permissions', column, row: of });
  return {
    use: readColumn(COLUMNS.useAs, row.use_as, place('use_as')),
    methods: readColumn(COLUMNS.methods, row.methods, place('methods')),
    paths: readColumn(COLUMNS.paths, row.paths, place('paths')),
    share: row.share,
    people: readColumn(COLUMNS.people, row.people, place('people')),
  };
};
/** The permissions that open a connection, by name or by a label of it; its ID is bound twice. Each way has its index; an OR of both has none. */
export const openingPermissions = (connection: string, again: string): string =>
  `(
     SELECT n.* FROM permissions n WHERE n.connection_id = ${connection}
     UNION SELECT m.* FROM connection_labels l JOIN permissions m ON m.label = l.label WHERE l.connection_id = ${again}
   ) p`;

const OPENED = `(
  SELECT p.connection_id FROM permissions p WHERE p.caller_id = $1 AND p.connection_id IS NOT NULL
  UNION SELECT l.connection_id FROM permissions p JOIN connection_labels l ON l.label = p.label WHERE p.caller_id = $2
) opened`;

/** The same as a condition on one connection. */
const IS_OPENED = `(
  EXISTS (SELECT 1 FROM permissions p WHERE p.caller_id = $1 AND p.connection_id = k.id)
  OR EXISTS (SELECT 1 FROM connection_labels l JOIN permissions p ON p.label = l.label WHERE l.connection_id = k.id AND p.caller_id = $2)
)`;
/** Where there are more, their number is kept for so long. */
const MANY = 5_000;
const KEPT_MS = 10_000;
const MAX_KEPT = 1_000;

export function permissionStore(database: Database): PermissionStore {
  const table = defineTable(database, 'permissions', COLUMNS, { primaryKey: ['id'] });
  /** The first names. Where there are many, connections are read in the order of names until enough `fit`; else those of `among` are sorted. */
  const namesOf = async (one: { among: string; fits: string; bind: Bind[]; most: number; total: number }): Promise<string[]> => {
    const from =
      one.total > MANY
        ? `connections k FORCE INDEX (name) WHERE ${one.fits}`
        : `(SELECT DISTINCT connection_id FROM ${one.among}) q JOIN connections k ON k.id = q.connection_id`;
    // Row by row: else the database first collects every connection that fits, to show 50 of them.
    const rows = await database.select<{ name: string }>(
      `SET STATEMENT optimizer_switch = 'materialization=off' FOR SELECT k.name FROM ${from} ORDER BY k.name LIMIT ${Math.floor(one.most)}`,
      one.bind,
    );
    return rows.map((row) => row.name);
  };
  const countOf = async (sql: string, bind: Bind[]): Promise<number> => Number((await database.select<{ n: number | bigint }>(sql, bind))[0]?.n ?? 0);
  /** Opened to a caller, by whatever permission: counted again where its permissions changed, and now and then. */
  const opened = new LRUCache<string, () => Promise<number>>({ max: MAX_KEPT });
  const countOpened = async (callerRecordId: string): Promise<number> => {
    const caller = idBytes(callerRecordId);
    const [mark] = await database.select<{ n: number | bigint; newest: Buffer | null }>(
      'SELECT COUNT(*) AS n, MAX(id) AS newest FROM permissions WHERE caller_id = $1',
      [caller],
    );
    const key = `${callerRecordId} ${mark?.n} ${mark?.newest?.toString('hex')}`;
    const count = () => countOf(`SELECT COUNT(*) AS n FROM ${OPENED}`, [caller, caller]);
    const known = opened.get(key) ?? staleWhileRevalidate(count, { keptMs: KEPT_MS, isLarge: (n) => n > MANY });
    opened.set(key, known);
    return known();
  };
  /** With a label, by label. */
  const labelled = new LRUCache<string, () => Promise<number>>({ max: MAX_KEPT });
  const countLabelled = (label: string): Promise<number> => {
    const count = () => countOf('SELECT COUNT(*) AS n FROM connection_labels WHERE label = $1', [label]);
    const known = labelled.get(label) ?? staleWhileRevalidate(count, { keptMs: KEPT_MS, isLarge: (n) => n > MANY });
    labelled.set(label, known);
    return known();
  };
  return {
    async connectionsOf(callerRecordId, most) {
      const caller = idBytes(callerRecordId);
      const total = await countOpened(callerRecordId);
      return { names: await namesOf({ among: OPENED, fits: IS_OPENED, bind: [caller, caller], most, total }), total };
    },
    async labelled(label, most) {
      const total = await countLabelled(label);
      const [among, fits] = ['connection_labels WHERE label = $1', 'EXISTS (SELECT 1 FROM connection_labels l WHERE l.connection_id = k.id AND l.label = $1)'];
      return { names: await namesOf({ among, fits, bind: [label], most, total }), total };
    },
    async of(callerRecordId) {
      const rows = await database.select<StoredRule & { id: Buffer; connection: string | null; label: string | null }>(
        `SELECT p.id, k.name AS connection, p.label, ${ruleColumns('p')}
         FROM permissions p LEFT JOIN connections k ON k.id = p.connection_id
         WHERE p.caller_id = $1 ORDER BY p.label IS NOT NULL, k.name, p.label`,
        [idBytes(callerRecordId)],
      );
      return rows.map((row) => ({ id: idText(row.id), connection: row.connection, label: row.label, rule: ruleOf(row, idText(row.id)) }));
    },
    async rulesFor(callerRecordId, connectionId) {
      const rows = await database.select<StoredRule>(`SELECT ${ruleColumns('p')} FROM ${openingPermissions('$1', '$2')} WHERE p.caller_id = $3 ORDER BY p.id`, [
        idBytes(connectionId),
        idBytes(connectionId),
        idBytes(callerRecordId),
      ]);
      return rows.map((row) => ruleOf(row, connectionId));
    },
    byId: (callerRecordId, permissionId) => table.find({ id: permissionId, callerId: callerRecordId }),
    async setNamed(callerRecordId, connectionIds, make) {
      const present = (await table.list({ callerId: callerRecordId })).filter((one) => one.connectionId !== null);
      const had = new Set(present.map((one) => one.connectionId));
      await database.transaction(async (transaction) => {
        for (const one of present) if (!connectionIds.has(one.connectionId ?? '')) await table.remove({ id: one.id }, transaction);
        for (const connectionId of connectionIds) if (!had.has(connectionId)) await table.insert(make(connectionId), transaction);
      });
    },
    async put(row) {
      const { callerId, connectionId, label, useAs, methods, paths, share, people } = row;
      const same = await table.find({ callerId, connectionId, label });
      if (same) await table.change({ id: same.id }, { useAs, methods, paths, share, people });
      else await table.insert(row);
    },
    remove: async (permissionId) => void (await table.remove({ id: permissionId })),
    async labelsUsed(callerRecordId, connectionIds) {
      if (connectionIds.length === 0) return [];
      const bind: Bind[] = [idBytes(callerRecordId)];
      const list = connectionIds.map((connectionId) => `$${bind.push(idBytes(connectionId))}`).join(', ');
      const rows = await database.select<{ connection_id: Buffer; label: string }>(
        `SELECT l.connection_id, l.label FROM permissions p JOIN connection_labels l ON l.label = p.label
         WHERE p.caller_id = $1 AND l.connection_id IN (${list})`,
        bind,
      );
      return rows.map((row) => ({ connectionId: idText(row.connection_id), label: row.label }));
    },
    async sharesOf(connectionId) {
      const rows = await database.select<{ id: Buffer; name: string; share: number }>(
        `SELECT c.id, c.name, MAX(p.share) AS share FROM ${openingPermissions('$1', '$2')} JOIN callers c ON c.id = p.caller_id
         WHERE p.share IS NOT NULL GROUP BY c.id, c.name ORDER BY c.name`,
        [idBytes(connectionId), idBytes(connectionId)],
      );
      return rows.map((row) => ({ callerId: idText(row.id), caller: row.name, share: row.share }));
    },
  };
}
