import type { z } from 'zod';
import type { Permission, Permit } from '../../api/callers.ts';
import { permissionInWords, type Use } from '../../core/callers/permissions.ts';
import { Fault } from '../../core/fault.ts';
import { recordId } from '../ports.ts';
import { idBytes } from '../store/database.ts';
import type { Row } from '../store/tables.ts';
import type { Services } from './services.ts';

type Needs = Pick<Services, 'database' | 'tables' | 'history' | 'ports' | 'changes'>;

/** The connection of this name. @throws {Fault} NOT_FOUND */
export async function connectionIdOf(s: Pick<Needs, 'tables'>, name: string): Promise<string> {
  const connection = await s.tables.connections.find({ name });
  if (!connection) throw new Fault('NOT_FOUND', { detail: `No connection is called ${name}.` });
  return connection.id;
}

/** Every permission of a caller with what it opens now, those by name first. */
export async function permissionsOf(s: Pick<Needs, 'database' | 'tables'>, callerId: string): Promise<Permission[]> {
  const [permissions, covered] = await Promise.all([
    s.tables.permissions.list({ callerId }, 'id'),
    s.database.select<{ id: string; name: string }>(
      `SELECT HEX(p.id) AS id, k.name FROM permissions p JOIN connections k ON k.id = p.connection_id WHERE p.caller_id = $1
       UNION ALL SELECT HEX(p.id), k.name FROM permissions p JOIN connection_labels l ON l.label = p.label JOIN connections k ON k.id = l.connection_id WHERE p.caller_id = $2 ORDER BY name`,
      [idBytes(callerId), idBytes(callerId)],
    ),
  ]);
  return permissions
    .map((one) => {
      const covers = covered.filter((row) => row.id.toLowerCase() === one.id.replaceAll('-', '')).map((row) => row.name);
      const rule = { use: one.useAs as Use, methods: (one.methods as string[] | null) ?? [], paths: (one.paths as string[] | null) ?? [], share: one.share };
      return { id: one.id, connection: one.label === null ? (covers[0] ?? null) : null, label: one.label, ...rule, says: permissionInWords(rule), covers };
    })
    .sort((a, b) => Number(a.label !== null) - Number(b.label !== null) || (a.connection ?? a.label ?? '').localeCompare(b.connection ?? b.label ?? ''));
}

const PLAIN = { label: null, useAs: 'any', methods: [], paths: [], share: null };

/** Makes the connections named those that the caller may use by name: what it had stays as it was, what is left out is withdrawn. */
export async function setNamed(s: Needs, callerId: string, names: readonly string[]): Promise<void> {
  const wanted = new Set(await Promise.all([...new Set(names)].map((name) => connectionIdOf(s, name))));
  const present = (await s.tables.permissions.list({ callerId })).filter(
    (one): one is Row<'permissions'> & { connectionId: string } => one.connectionId !== null,
  );
  await s.database.transaction(async (transaction) => {
    for (const one of present) if (!wanted.has(one.connectionId)) await s.tables.permissions.remove({ id: one.id }, transaction);
    for (const connectionId of wanted)
      if (!present.some((one) => one.connectionId === connectionId))
        await s.tables.permissions.insert({ id: recordId(s.ports), callerId, connectionId, ...PLAIN }, transaction);
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
  const one = (await permissionsOf(s, caller.id)).find((permission) => permission.id === id);
  if (!one) throw new Fault('NOT_FOUND', { detail: 'The caller has no such permission.' });
  await s.tables.permissions.remove({ id });
  await s.changes.announce('caller', caller.name);
  s.history.add({
    actor: operator,
    kind: 'permission_withdrawn',
    subject: `caller:${caller.name}`,
    says: `It may no longer use ${one.connection ?? `what is labelled ${one.label}`}.`,
  });
}
