import type { z } from 'zod';
import type { AddCaller, AddKey, Caller, ChangeCaller, NewKey } from '../../api/callers.ts';
import { Fault } from '../../core/fault.ts';
import { base64url, CALLER_ID_PREFIX, CALLER_KEY_PREFIX } from '../../core/identifiers.ts';
import { hashKey } from '../handout/caller-directory.ts';
import { recordId } from '../ports.ts';
import { idBytes, instantText } from '../store/database.ts';
import type { Row } from '../store/tables.ts';
import { iso, isoOrNull, type Services } from './services.ts';

type Needs = Pick<Services, 'database' | 'tables' | 'history' | 'ports' | 'settings' | 'changes'>;

const HOUR_MS = 3_600_000;
const STARTS_SHOWN = 8;

async function find(s: Needs, name: string): Promise<Row<'callers'>> {
  const record = await s.tables.callers.find({ name });
  if (!record) throw new Fault('NOT_FOUND', { detail: `No caller is called ${name}.` });
  return record;
}

async function connectionsOf(s: Needs, record: Row<'callers'>): Promise<string[]> {
  const rows = await s.database.select<{ name: string }>(
    'SELECT k.name FROM permissions p JOIN connections k ON k.id = p.connection_id WHERE p.caller_id = $1 ORDER BY k.name',
    [idBytes(record.id)],
  );
  return rows.map((row) => row.name);
}

async function view(s: Needs, record: Row<'callers'>): Promise<Caller> {
  const [keys, connections, counts] = await Promise.all([
    s.tables.callerKeys.list({ callerId: record.id }, 'startsAt'),
    connectionsOf(s, record),
    s.database.select<{ outcome: string; n: number | bigint | string }>(
      'SELECT outcome, SUM(count) AS n FROM usage_minutes WHERE caller_id = $1 AND minute > $2 GROUP BY outcome',
      [idBytes(record.id), instantText(s.ports.clock.now() - HOUR_MS)],
    ),
  ]);
  const n = (outcome: string) => Number(counts.find((row) => row.outcome === outcome)?.n ?? 0);
  const used = keys.flatMap((key) => (key.lastUsedAt === null ? [] : [key.lastUsedAt]));
  return {
    name: record.name,
    title: record.title,
    caller_id: record.callerId,
    connections,
    keys: keys.map((key) => ({
      id: key.id,
      label: key.label,
      starts: key.starts,
      added_at: iso(key.startsAt),
      last_used_at: isoOrNull(key.lastUsedAt),
      retired_at: isoOrNull(key.endsAt),
    })),
    handouts_last_hour: n('token'),
    refused_last_hour: n('refused'),
    last_used_at: used.length > 0 ? iso(Math.max(...used)) : null,
    token_url: tokenUrl(s),
  };
}

const tokenUrl = (s: Pick<Needs, 'settings'>): string => `${s.settings.publicUrl}/oauth/token`;

export async function listCallers(s: Needs): Promise<{ items: Caller[] }> {
  return { items: await Promise.all((await s.tables.callers.list({}, 'name')).map((record) => view(s, record))) };
}

export const showCaller = async (s: Needs, name: string): Promise<Caller> => view(s, await find(s, name));

async function connectionIds(s: Needs, names: string[]): Promise<string[]> {
  return Promise.all(
    [...new Set(names)].map(async (name) => {
      const connection = await s.tables.connections.find({ name });
      if (!connection) throw new Fault('NOT_FOUND', { detail: `No connection is called ${name}.` });
      return connection.id;
    }),
  );
}

export async function addCaller(s: Needs, input: z.output<typeof AddCaller>, operator: string): Promise<NewKey> {
  if (await s.tables.callers.find({ name: input.name })) throw new Fault('NAME_TAKEN', { detail: `A caller called ${input.name} exists.` });
  const connections = await connectionIds(s, input.connections);
  const record: Row<'callers'> = {
    id: recordId(s.ports),
    name: input.name,
    title: input.title,
    callerId: `${CALLER_ID_PREFIX}${base64url(s.ports.random.bytes(12))}`,
    createdAt: s.ports.clock.now(),
  };
  await s.tables.callers.insert(record);
  for (const connectionId of connections) await s.tables.permissions.insert({ id: recordId(s.ports), callerId: record.id, connectionId });
  s.history.add({
    actor: operator,
    kind: 'caller_added',
    subject: `caller:${input.name}`,
    says: `Added the caller ${input.name}.`,
    data: { connections: input.connections },
  });
  return makeKey(s, record, 'first key');
}

async function makeKey(s: Needs, record: Row<'callers'>, label: string): Promise<NewKey> {
  const key = `${CALLER_KEY_PREFIX}${base64url(s.ports.random.bytes(32))}`;
  await s.tables.callerKeys.insert({
    id: recordId(s.ports),
    callerId: record.id,
    label,
    starts: key.slice(0, STARTS_SHOWN),
    hash: hashKey(key),
    startsAt: s.ports.clock.now(),
    endsAt: null,
    lastUsedAt: null,
  });
  await s.changes.announce('caller', record.name);
  const connections = await connectionsOf(s, record);
  return {
    caller: record.name,
    caller_id: record.callerId,
    key,
    token_url: tokenUrl(s),
    resources: connections.map((name) => `${s.settings.publicUrl}/connections/${name}`),
  };
}

export async function addKey(s: Needs, name: string, input: z.output<typeof AddKey>, operator: string): Promise<NewKey> {
  const record = await find(s, name);
  const made = await makeKey(s, record, input.label);
  s.history.add({ actor: operator, kind: 'key_added', subject: `caller:${name}`, says: `Added a key${input.label ? ` called ${input.label}` : ''}.` });
  return made;
}

export async function retireKey(s: Needs, name: string, keyId: string, operator: string): Promise<Caller> {
  const record = await find(s, name);
  const key = await s.tables.callerKeys.find({ id: keyId, callerId: record.id });
  if (!key) throw new Fault('NOT_FOUND', { detail: 'The caller has no such key.' });
  if (key.endsAt === null) {
    await s.tables.callerKeys.change({ id: keyId }, { endsAt: s.ports.clock.now() });
    s.history.add({ actor: operator, kind: 'key_retired', subject: `caller:${name}`, says: `Retired the key ${key.starts}\u2026` });
    await s.changes.announce('caller', name);
  }
  return view(s, record);
}

/** Changes title and permissions; a connection that is left out is withdrawn. */
export async function changeCaller(s: Needs, name: string, input: z.output<typeof ChangeCaller>, operator: string): Promise<Caller> {
  const record = await find(s, name);
  if (input.title !== undefined) await s.tables.callers.change({ id: record.id }, { title: input.title });
  if (input.connections) {
    const ids = await connectionIds(s, input.connections);
    await s.database.transaction(async (transaction) => {
      await s.tables.permissions.remove({ callerId: record.id }, transaction);
      for (const connectionId of ids) await s.tables.permissions.insert({ id: recordId(s.ports), callerId: record.id, connectionId }, transaction);
    });
  }
  await s.changes.announce('caller', name);
  s.history.add({ actor: operator, kind: 'caller_changed', subject: `caller:${name}`, says: 'Changed the caller.', data: { ...input } });
  return view(s, { ...record, title: input.title ?? record.title });
}

export async function removeCaller(s: Needs, name: string, operator: string): Promise<{ done: true }> {
  const record = await find(s, name);
  await s.database.transaction(async (transaction) => {
    await s.tables.permissions.remove({ callerId: record.id }, transaction);
    await s.tables.callerKeys.remove({ callerId: record.id }, transaction);
    await s.tables.callers.remove({ id: record.id }, transaction);
  });
  await s.changes.announce('caller', name);
  s.history.add({ actor: operator, kind: 'caller_removed', subject: `caller:${name}`, says: 'Removed the caller and its keys.' });
  return { done: true };
}
