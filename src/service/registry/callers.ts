import type { z } from 'zod';
import type { AddCaller, AddKey, Caller, CallerSummary, ChangeCaller, NewKey, Permit } from '../../api/callers.ts';
import { Fault } from '../../core/fault.ts';
import { base64url, CALLER_ID_PREFIX, CALLER_KEY_PREFIX } from '../../core/identifiers.ts';
import { endSignIn, endSignIns, signedInTools } from '../door/sign-ins.ts';
import { hashKey } from '../handout/caller-directory.ts';
import { recordId } from '../ports.ts';
import { idBytes, instantText } from '../store/database.ts';
import type { Row } from '../store/tables.ts';
import { connectionIdOf, connectionsOf, permissionsOf, permit, setNamed, withdraw } from './caller-permissions.ts';
import { usesOf } from './caller-uses.ts';
import { iso, isoOrNull, type Services } from './services.ts';

type Needs = Pick<Services, 'database' | 'tables' | 'history' | 'ports' | 'settings' | 'changes'>;

const HOUR_MS = 3_600_000;
const STARTS_SHOWN = 8;

export async function findCaller(s: Needs, name: string): Promise<Row<'callers'>> {
  const record = await s.tables.callers.find({ name });
  if (!record) throw new Fault('NOT_FOUND', { detail: `No caller is called ${name}.` });
  return record;
}

async function summary(s: Needs, record: Row<'callers'>): Promise<CallerSummary> {
  const [keys, connections, counts, [door]] = await Promise.all([
    s.tables.callerKeys.list({ callerId: record.id }, 'startsAt'),
    connectionsOf(s, record.id),
    s.database.select<{ outcome: string; n: number | bigint | string }>(
      'SELECT outcome, SUM(count) AS n FROM usage_minutes WHERE caller_id = $1 AND minute > $2 GROUP BY outcome',
      [idBytes(record.id), instantText(s.ports.clock.now() - HOUR_MS)],
    ),
    // Tools that came through the door use no key.
    s.database.select<{ at: Date | null }>('SELECT MAX(last_used_at) AS at FROM door_sign_ins WHERE caller_id = $1', [idBytes(record.id)]),
  ]);
  const n = (outcome: string) => Number(counts.find((row) => row.outcome === outcome)?.n ?? 0);
  const used = [...keys.map((key) => key.lastUsedAt), door?.at?.getTime() ?? null].filter((at) => at !== null);
  return {
    name: record.name,
    title: record.title,
    caller_id: record.callerId,
    connections: connections.names,
    connections_total: connections.total,
    keys: keys.map((key) => ({
      id: key.id,
      label: key.label,
      starts: key.starts,
      added_at: iso(key.startsAt),
      last_used_at: isoOrNull(key.lastUsedAt),
      retired_at: isoOrNull(key.endsAt),
    })),
    handouts_last_hour: n('token'),
    relayed_last_hour: n('relayed'),
    refused_last_hour: n('refused') + n('limited'),
    last_used_at: used.length > 0 ? iso(Math.max(...used)) : null,
    token_url: tokenUrl(s),
  };
}

async function view(s: Needs, record: Row<'callers'>): Promise<Caller> {
  const [short, permissions, uses, signedIn] = await Promise.all([
    summary(s, record),
    permissionsOf(s, record.id),
    usesOf(s, record.id),
    signedInTools(s, record.id),
  ]);
  return {
    ...short,
    permissions,
    ...uses,
    token_path: record.tokenPath,
    redirect_uris: (record.redirectUris as string[] | null) ?? [],
    keeps_no_secret: record.keepsNoSecret,
    signed_in: signedIn,
  };
}

const tokenUrl = (s: Pick<Needs, 'settings'>): string => `${s.settings.publicUrl}/oauth/token`;

export async function listCallers(s: Needs): Promise<{ items: CallerSummary[] }> {
  return { items: await Promise.all((await s.tables.callers.list({}, 'name')).map((record) => summary(s, record))) };
}

export const showCaller = async (s: Needs, name: string): Promise<Caller> => view(s, await findCaller(s, name));

export async function permitCaller(s: Needs, name: string, input: z.output<typeof Permit>, operator: string): Promise<Caller> {
  const record = await findCaller(s, name);
  await permit(s, record, input, operator);
  return view(s, record);
}

export async function withdrawPermission(s: Needs, name: string, id: string, operator: string): Promise<Caller> {
  const record = await findCaller(s, name);
  await withdraw(s, record, id, operator);
  return view(s, record);
}

/** @throws {Fault} INPUT_INVALID where another caller has this token path */
async function refuseTakenPath(s: Needs, path: string | null | undefined, but: string): Promise<void> {
  if (!path) return;
  const other = await s.tables.callers.find({ tokenPath: path });
  if (other && other.id !== but) throw new Fault('INPUT_INVALID', { places: [{ path: 'token_path', why: `The caller ${other.name} has it.` }] });
}

export async function addCaller(s: Needs, input: z.output<typeof AddCaller>, operator: string): Promise<NewKey> {
  if (await s.tables.callers.find({ name: input.name })) throw new Fault('NAME_TAKEN', { detail: `A caller called ${input.name} exists.` });
  for (const connection of input.connections) await connectionIdOf(s, connection);
  await refuseTakenPath(s, input.token_path, '');
  const record: Row<'callers'> = {
    id: recordId(s.ports),
    name: input.name,
    title: input.title,
    callerId: `${CALLER_ID_PREFIX}${base64url(s.ports.random.bytes(12))}`,
    tokenPath: input.token_path ?? null,
    redirectUris: input.redirect_uris ?? [],
    keepsNoSecret: input.keeps_no_secret ?? false,
    createdAt: s.ports.clock.now(),
  };
  await s.tables.callers.insert(record);
  await setNamed(s, record.id, input.connections);
  s.history.add({
    actor: operator,
    kind: 'caller_added',
    subject: `caller:${input.name}`,
    says: `Added the caller ${input.name}.`,
    data: { connections: input.connections },
  });
  return makeKey(s, record, 'first key', null);
}

async function makeKey(s: Needs, record: Row<'callers'>, label: string, endsAt: number | null): Promise<NewKey> {
  const key = `${CALLER_KEY_PREFIX}${base64url(s.ports.random.bytes(32))}`;
  await s.tables.callerKeys.insert({
    id: recordId(s.ports),
    callerId: record.id,
    label,
    starts: key.slice(0, STARTS_SHOWN),
    hash: hashKey(key),
    startsAt: s.ports.clock.now(),
    endsAt,
    lastUsedAt: null,
  });
  await s.changes.announce('caller', record.name);
  const { names } = await connectionsOf(s, record.id);
  return {
    caller: record.name,
    caller_id: record.callerId,
    key,
    token_url: tokenUrl(s),
    resources: names.map((name) => `${s.settings.publicUrl}/connections/${name}`),
  };
}

export async function addKey(s: Needs, name: string, input: z.output<typeof AddKey>, operator: string): Promise<NewKey> {
  const record = await findCaller(s, name);
  const endsAt = input.ends_at === null ? null : Date.parse(input.ends_at);
  if (endsAt !== null && endsAt <= s.ports.clock.now()) throw new Fault('INPUT_INVALID', { places: [{ path: 'ends_at', why: 'That is over already.' }] });
  const made = await makeKey(s, record, input.label, endsAt);
  s.history.add({
    actor: operator,
    kind: 'key_added',
    subject: `caller:${name}`,
    says: `Added a key${input.label ? ` called ${input.label}` : ''}${input.ends_at ? `, until ${input.ends_at.slice(0, 16)}` : ''}.`,
  });
  return made;
}

export async function retireKey(s: Needs, name: string, keyId: string, operator: string): Promise<Caller> {
  const record = await findCaller(s, name);
  const key = await s.tables.callerKeys.find({ id: keyId, callerId: record.id });
  if (!key) throw new Fault('NOT_FOUND', { detail: 'The caller has no such key.' });
  if (key.endsAt === null || key.endsAt > s.ports.clock.now()) {
    await s.tables.callerKeys.change({ id: keyId }, { endsAt: s.ports.clock.now() });
    s.history.add({ actor: operator, kind: 'key_retired', subject: `caller:${name}`, says: `Retired the key ${key.starts}\u2026` });
    await s.changes.announce('caller', name);
  }
  return view(s, record);
}

/** Changes what is named; of `connections`, one that is left out is withdrawn. */
export async function changeCaller(s: Needs, name: string, input: z.output<typeof ChangeCaller>, operator: string): Promise<Caller> {
  const record = await findCaller(s, name);
  await refuseTakenPath(s, input.token_path, record.id);
  const set: Partial<Row<'callers'>> = {
    ...(input.title !== undefined && { title: input.title }),
    ...(input.token_path !== undefined && { tokenPath: input.token_path }),
    ...(input.redirect_uris && { redirectUris: input.redirect_uris }),
    ...(input.keeps_no_secret !== undefined && { keepsNoSecret: input.keeps_no_secret }),
  };
  if (Object.keys(set).length > 0) await s.tables.callers.change({ id: record.id }, set);
  if (input.connections) await setNamed(s, record.id, input.connections);
  await s.changes.announce('caller', name);
  s.history.add({ actor: operator, kind: 'caller_changed', subject: `caller:${name}`, says: 'Changed the caller.', data: { ...input } });
  return view(s, { ...record, ...set });
}

export async function removeCaller(s: Needs, name: string, operator: string): Promise<{ done: true }> {
  const record = await findCaller(s, name);
  await endSignIns(s, { callerId: record.id }, 'caller_removed');
  await s.database.transaction(async (transaction) => {
    await s.tables.permissions.remove({ callerId: record.id }, transaction);
    await s.tables.doorRequests.remove({ callerId: record.id }, transaction);
    await s.tables.callerKeys.remove({ callerId: record.id }, transaction);
    await s.tables.callers.remove({ id: record.id }, transaction);
  });
  await s.changes.announce('caller', name);
  s.history.add({ actor: operator, kind: 'caller_removed', subject: `caller:${name}`, says: 'Removed the caller and its keys.' });
  return { done: true };
}

export async function endToolSignIn(s: Needs, name: string, id: string, operator: string): Promise<Caller> {
  const record = await findCaller(s, name);
  await endSignIn(s, record, id, operator);
  return view(s, record);
}
