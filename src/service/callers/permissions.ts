import type { z } from 'zod';
import type { Permission, Permit } from '../../api/callers.ts';
import { permissionInWords, type Permission as Rule } from '../../core/callers/permissions.ts';
import { Fault } from '../../core/fault.ts';
import { recordId } from '../ports.ts';
import type { CallerRow } from '../store/callers.ts';
import type { NamesAndTotal } from '../store/permissions.ts';
import type { CallerParts } from './parts.ts';

/** The connection of this name. @throws {Fault} NOT_FOUND */
export async function connectionIdOf(s: Pick<CallerParts, 'store'>, name: string): Promise<string> {
  const connection = await s.store.connections.byName(name);
  if (!connection) throw new Fault('NOT_FOUND', { detail: `Connection "${name}" not found.` });
  return connection.id;
}

/** A caller may have a hundred thousand connections: lists name the first of them, and say how many there are. */
const NAMES_SHOWN = 50;

/** What a caller may use now, by name or by label: the first by name, and how many. */
export const connectionsOf = (s: Pick<CallerParts, 'store'>, callerId: string): Promise<NamesAndTotal> =>
  s.store.permissions.connectionsOf(callerId, NAMES_SHOWN);

/** Every permission of a caller with what it opens now, those by name first. */
export async function permissionsOf(s: Pick<CallerParts, 'store'>, callerId: string): Promise<Permission[]> {
  const rows = await s.store.permissions.of(callerId);
  return Promise.all(
    rows.map(async ({ id, connection, label, rule }) => {
      const { names, total } =
        label === null ? { names: connection === null ? [] : [connection], total: 1 } : await s.store.permissions.labelled(label, NAMES_SHOWN);
      return {
        ...{ id, connection, label, ...rule, methods: [...rule.methods], paths: [...rule.paths] },
        ...{ says: permissionInWords(rule), covers: names, covers_total: total },
      };
    }),
  );
}

/** What a caller may do with one connection, by name and by label. */
export const rulesFor = (s: Pick<CallerParts, 'store'>, callerId: string, connectionId: string): Promise<Rule[]> =>
  s.store.permissions.rulesFor(callerId, connectionId);

const PLAIN = { label: null, useAs: 'any' as const, methods: [], paths: [], share: null, people: 'none' as const };

/** Makes the connections named those that the caller may use by name: what it had stays as it was, what is left out is withdrawn. */
export async function setNamed(s: CallerParts, callerId: string, names: readonly string[]): Promise<void> {
  const wanted = new Set(await Promise.all([...new Set(names)].map((name) => connectionIdOf(s, name))));
  await s.store.permissions.setNamed(callerId, wanted, (connectionId) => ({ id: recordId(s.ports), callerId, connectionId, ...PLAIN }));
}

/** Gives a permission; one for the same connection or label is replaced. */
export async function permit(s: CallerParts, caller: CallerRow, input: z.output<typeof Permit>, operator: string): Promise<void> {
  const connectionId = input.connection === undefined ? null : await connectionIdOf(s, input.connection);
  const label = input.label ?? null;
  const { use, methods, paths, share, people } = input;
  await s.store.permissions.put({ id: recordId(s.ports), callerId: caller.id, connectionId, label, useAs: use, methods, paths, share, people });
  await s.changes.announce('caller', caller.name);
  const whose = input.connection === undefined ? `all connections labelled ${label}` : input.connection;
  s.history.add({ actor: operator, kind: 'permitted', subject: `caller:${caller.name}`, says: `It may use ${whose}: ${permissionInWords(input)}.` });
}

/** @throws {Fault} NOT_FOUND */
export async function withdraw(s: CallerParts, caller: CallerRow, id: string, operator: string): Promise<void> {
  const one = await s.store.permissions.byId(caller.id, id);
  if (!one) throw new Fault('NOT_FOUND', { detail: 'The caller has no such permission.' });
  const connection = one.connectionId === null ? null : await s.store.connections.byId(one.connectionId);
  await s.store.permissions.remove(id);
  await s.changes.announce('caller', caller.name);
  s.history.add({
    actor: operator,
    kind: 'permission_withdrawn',
    subject: `caller:${caller.name}`,
    says: `It may no longer use ${connection?.name ?? `what is labelled ${one.label}`}.`,
  });
}
