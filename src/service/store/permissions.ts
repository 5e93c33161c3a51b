import { type Permission as Rule, USES } from '../../core/callers/permissions.ts';
import { id, number, oneOf, orElse, orNull, text, textList } from './column.ts';
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
};
export type PermissionRow = RowOf<typeof COLUMNS>;

/** Connections by name, the first of them, and how many there are. */
export interface NamesAndTotal {
  names: string[];
  total: number;
}
export interface ShownPermission {
  id: string;
  connection: string | null;
  label: string | null;
  rule: Rule;
}

/** What callers may use: connections by name, and all with a label. */
export interface PermissionStore {
  /** What a caller may use now: the first `most` by name, and how many. */
  connectionsOf(callerRecordId: string, most: number): Promise<NamesAndTotal>;
  /** What has a label now: the first `most` by name, and how many. */
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
}
export const ruleOf = (row: StoredRule): Rule => ({
  use: COLUMNS.useAs.read(row.use_as),
  methods: COLUMNS.methods.read(row.methods),
  paths: COLUMNS.paths.read(row.paths),
  share: row.share,
});
/** Permissions that open a connection, by name or by a label of it; its ID is bound twice. */
export const opens = (connection: string, again: string): string =>
  `(p.connection_id = ${connection} OR p.label IN (SELECT l.label FROM connection_labels l WHERE l.connection_id = ${again}))`;

const OPENED = `(
  SELECT p.connection_id FROM permissions p WHERE p.caller_id = $1 AND p.connection_id IS NOT NULL
  UNION SELECT l.connection_id FROM permissions p JOIN connection_labels l ON l.label = p.label WHERE p.caller_id = $2
) q`;

export function permissionStore(database: Database): PermissionStore {
  const table = defineTable(database, 'permissions', COLUMNS, { primaryKey: ['id'] });
  const namesAndTotal = async (from: string, all: string, bind: Bind[], most: number): Promise<NamesAndTotal> => {
    const [named, [count]] = await Promise.all([
      database.select<{ name: string }>(`SELECT k.name ${from} ORDER BY k.name LIMIT ${Math.floor(most)}`, bind),
      database.select<{ n: number | bigint }>(`SELECT COUNT(*) AS n ${all}`, bind),
    ]);
    return { names: named.map((row) => row.name), total: Number(count?.n ?? 0) };
  };
  return {
    connectionsOf(callerRecordId, most) {
      const bind = [idBytes(callerRecordId), idBytes(callerRecordId)];
      return namesAndTotal(`FROM ${OPENED} JOIN connections k ON k.id = q.connection_id`, `FROM ${OPENED}`, bind, most);
    },
    labelled(label, most) {
      const from = 'FROM connection_labels l JOIN connections k ON k.id = l.connection_id WHERE l.label = $1';
      return namesAndTotal(from, 'FROM connection_labels l WHERE l.label = $1', [label], most);
    },
    async of(callerRecordId) {
      const rows = await database.select<StoredRule & { id: Buffer; connection: string | null; label: string | null }>(
        `SELECT p.id, k.name AS connection, p.label, p.use_as, p.methods, p.paths, p.share
         FROM permissions p LEFT JOIN connections k ON k.id = p.connection_id
         WHERE p.caller_id = $1 ORDER BY p.label IS NOT NULL, k.name, p.label`,
        [idBytes(callerRecordId)],
      );
      return rows.map((row) => ({ id: idText(row.id), connection: row.connection, label: row.label, rule: ruleOf(row) }));
    },
    async rulesFor(callerRecordId, connectionId) {
      const rows = await database.select<StoredRule>(
        `SELECT p.use_as, p.methods, p.paths, p.share FROM permissions p WHERE p.caller_id = $1 AND ${opens('$2', '$3')} ORDER BY p.id`,
        [idBytes(callerRecordId), idBytes(connectionId), idBytes(connectionId)],
      );
      return rows.map(ruleOf);
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
      const { callerId, connectionId, label, useAs, methods, paths, share } = row;
      const same = await table.find({ callerId, connectionId, label });
      if (same) await table.change({ id: same.id }, { useAs, methods, paths, share });
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
        `SELECT c.id, c.name, MAX(p.share) AS share FROM permissions p JOIN callers c ON c.id = p.caller_id
         WHERE p.share IS NOT NULL AND ${opens('$1', '$2')} GROUP BY c.id, c.name ORDER BY c.name`,
        [idBytes(connectionId), idBytes(connectionId)],
      );
      return rows.map((row) => ({ callerId: idText(row.id), caller: row.name, share: row.share }));
    },
  };
}
