import type { z } from 'zod';
import type { Permission, Permit } from '../../api/callers.ts';
import { permissionInWords, type Permission as Rule, type Use } from '../../core/callers/permissions.ts';
import { Fault } from '../../core/fault.ts';
import { recordId } from '../ports.ts';
import { idBytes, idText } from '../store/database.ts';
import type { Row } from '../store/tables.ts';
import type { Services } from './services.ts';

type Needs = Pick<Services, 'database' | 'tables' | 'history' | 'ports' | 'changes'>;

/** The connection of this name. @throws {Fault} NOT_FOUND */
export async function connectionIdOf(s: Pick<Needs, 'tables'>, name: string): Promise<string> {
  const connection = await s.tables.connections.find({ name });
  if (!connection) throw new Fault('NOT_FOUND', { detail: `No connection is called ${name}.` });
  return connection.id;
}

/** A caller may have a hundred thousand connections: lists name the first of them, and say how many there are. */
const NAMES_SHOWN = 50;
const OPENED = `(SELECT p.connection_id FROM permissions p WHERE p.caller_id = $1 AND p.connection_id IS NOT NULL
  UNION SELECT l.connection_id FROM permissions p JOIN connection_labels l ON l.label = p.label WHERE p.caller_id = $2) q`;

/** What a caller may use now, by name or by label: the first by name, and how many. */
export async function connectionsOf(s: Pick<Needs, 'database'>, callerId: string): Promise<{ names: string[]; total: number }> {
  const bind = [idBytes(callerId), idBytes(callerId)];
  const [named, [count]] = await Promise.all([
    s.database.select<{ name: string }>(`SELECT k.name FROM ${OPENED} JOIN connections k ON k.id = q.connection_id ORDER BY k.name LIMIT ${NAMES_SHOWN}`, bind),
    s.database.select<{ n: number | bigint }>(`SELECT COUNT(*) AS n FROM ${OPENED}`, bind),
  ]);
  return { names: named.map((row) => row.name), total: Number(count?.n ?? 0) };
}

interface StoredPermission {
  id: Buffer;
  connection: string | null;
  label: string | null;
  use_as: string;
  methods: string | null;
  paths: string | null;
  share: number | null;
}
const RULES = 'p.id, k.name AS connection, p.label, p.use_as, p.methods, p.paths, p.share';
const ruleOf = (row: StoredPermission): Rule => ({
  use: row.use_as as Use,
  methods: JSON.parse(row.methods ?? '[]') as string[],
  paths: JSON.parse(row.paths ?? '[]') as string[],
  share: row.share,
});

/** Every permission of a caller with what it opens now, those by name first. */
export async function permissionsOf(s: Pick<Needs, 'database'>, callerId: string): Promise<Permission[]> {
  const rows = await s.database.select<StoredPermission>(
    `SELECT ${RULES} FROM permissions p LEFT JOIN connections k ON k.id = p.connection_id WHERE p.caller_id = $1 ORDER BY p.label IS NOT NULL, k.name, p.label`,
    [idBytes(callerId)],
  );
  return Promise.all(
    rows.map(async (row) => {
      const rule = ruleOf(row);
      const { names, total } = row.label === null ? { names: row.connection === null ? [] : [row.connection], total: 1 } : await labelled(s, row.label);
      return {
        ...{ id: idText(row.id), connection: row.connection, label: row.label, ...rule, methods: [...rule.methods], paths: [...rule.paths] },
        ...{ says: permissionInWords(rule), covers: names, covers_total: total },
      };
    }),
  );
}

async function labelled(s: Pick<Needs, 'database'>, label: string): Promise<{ names: string[]; total: number }> {
  const of = 'FROM connection_labels l JOIN connections k ON k.id = l.connection_id WHERE l.label = $1';
  const [named, [count]] = await Promise.all([
    s.database.select<{ name: string }>(`SELECT k.name ${of} ORDER BY k.name LIMIT ${NAMES_SHOWN}`, [label]),
    s.database.select<{ n: number | bigint }>(`SELECT COUNT(*) AS n ${of}`, [label]),
  ]);
  return { names: named.map((row) => row.name), total: Number(count?.n ?? 0) };
}

/** What a caller may do with one connection, by name and by label. */
export async function rulesFor(s: Pick<Needs, 'database'>, callerId: string, connectionId: string): Promise<Rule[]> {
  const rows = await s.database.select<StoredPermission>(
    `SELECT ${RULES} FROM permissions p LEFT JOIN connections k ON k.id = p.connection_id
     WHERE p.caller_id = $1 AND (p.connection_id = $2 OR p.label IN (SELECT l.label FROM connection_labels l WHERE l.connection_id = $3)) ORDER BY p.id`,
    [idBytes(callerId), idBytes(connectionId), idBytes(connectionId)],
  );
  return rows.map(ruleOf);
}

const PLAIN = { label: null, useAs: 'any', methods: [], paths: [], share: null };

/** Makes the connections named those that the caller may use by name: what it had stays as it was, what is left out is withdrawn. */
export async function setNamed(s: Needs, callerId: string, names: readonly string[]): Promise<void> {
  const wanted = new Set(await Promise.all([...new Set(names)].map((name) => connectionIdOf(s, name))));
  const present = (await s.tables.permissions.list({ callerId })).filter(
    (one): one is Row<'permissions'> & { connectionId: string } => one.connectionId !== null,
  );
  const had = new Set(present.map((one) => one.connectionId));
  await s.database.transaction(async (transaction) => {
    for (const one of present) if (!wanted.has(one.connectionId)) await s.tables.permissions.remove({ id: one.id }, transaction);
    for (const connectionId of wanted)
      if (!had.has(connectionId)) await s.tables.permissions.insert({ id: recordId(s.ports), callerId, connectionId, ...PLAIN }, transaction);
  });
}

/** Gives a permission; one for the same connection or label is replaced. */
export async function permit(s: Needs, caller: Row<'callers'>, input: z.output<typeof Permit>, operator: string): Promise<void> {
  const connectionId = input.connection === undefined ? null : await connectionIdOf(s, input.connection);
  const label = input.label ?? null;
  const same = (await s.tables.permissions.list({ callerId: caller.id })).find((one) => one.connectionId === connectionId && one.label === label);
  const rule = { useAs: input.use, methods: input.methods, paths: input.paths, share: input.share };
  if (same) await s.tables.permissions.change({ id: same.id }, rule);
  else await s.tables.permissions.insert({ id: recordId(s.ports), callerId: caller.id, connectionId, label, ...rule });
  await s.changes.announce('caller', caller.name);
  const whose = input.connection === undefined ? `all connections labelled ${label}` : input.connection;
  s.history.add({ actor: operator, kind: 'permitted', subject: `caller:${caller.name}`, says: `It may use ${whose}: ${permissionInWords(input)}.` });
}

/** @throws {Fault} NOT_FOUND */
export async function withdraw(s: Needs, caller: Row<'callers'>, id: string, operator: string): Promise<void> {
  const one = await s.tables.permissions.find({ id, callerId: caller.id });
  if (!one) throw new Fault('NOT_FOUND', { detail: 'The caller has no such permission.' });
  const connection = one.connectionId === null ? null : await s.tables.connections.find({ id: one.connectionId });
  await s.tables.permissions.remove({ id });
  await s.changes.announce('caller', caller.name);
  s.history.add({
    actor: operator,
    kind: 'permission_withdrawn',
    subject: `caller:${caller.name}`,
    says: `It may no longer use ${connection?.name ?? `what is labelled ${one.label}`}.`,
  });
}
