import type { Caller, CallerSummary, NewKey } from '../../api/callers.ts';
import { changesOf } from '../../core/activity/changes.ts';
import { Fault } from '../../core/fault.ts';
import { base64url, CALLER_ID_PREFIX, CALLER_KEY_PREFIX } from '../../core/identifiers.ts';
import { hashOf } from '../hash.ts';
import { iso, isoOrNull } from '../iso.ts';
import { type Asked, type Command, type Limits, limitsOf } from '../operation-call.ts';
import { recordId } from '../ports.ts';
import type { CallerRow } from '../store/callers.ts';
import { endSignIn, endSignIns, signedInTools } from '../tool-sign-ins/index.ts';
import { usesOf } from '../usage/index.ts';
import { identityView } from './identity-view.ts';
import type { CallerParts } from './parts.ts';
import { connectionIdOf, connectionsOf, permissionsOf, permit, setNamed, withdraw } from './permissions.ts';

const HOUR_MS = 3_600_000;
const STARTS_SHOWN = 8;

export async function findCaller(s: CallerParts, name: string): Promise<CallerRow> {
  const record = await s.store.callers.byName(name);
  if (!record) throw new Fault('NOT_FOUND', { detail: `Caller "${name}" not found.` });
  return record;
}

async function summary(s: CallerParts, record: CallerRow): Promise<CallerSummary> {
  const [keys, connections, counts, byTools] = await Promise.all([
    s.store.callers.keysOf(record.id),
    connectionsOf(s, record.id),
    s.store.usage.totals(s.ports.clock.now() - HOUR_MS, record.id),
    s.store.toolSignIns.lastUsed(record.id), // tools that signed in use no key
  ]);
  const n = (outcome: string) => counts[outcome] ?? 0;
  const used = [...keys.map((key) => key.lastUsedAt), byTools].filter((at) => at !== null);
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
    tokens_last_hour: n('token'),
    relayed_last_hour: n('relayed'),
    refused_last_hour: n('refused') + n('limited'),
    last_used_at: used.length > 0 ? iso(Math.max(...used)) : null,
    token_url: tokenUrl(s),
  };
}

async function view(s: CallerParts, record: CallerRow, limits: Limits): Promise<Caller> {
  const [short, permissions, uses, signedIn, identities] = await Promise.all([
    summary(s, record),
    permissionsOf(s, record.id),
    usesOf(s, record.id),
    signedInTools(s, record.id),
    s.store.callerIdentities.ofCaller(record.id),
  ]);
  // What it used before it was withdrawn may be beyond what the account may see.
  const named = [...uses.uses.map((one) => one.connection), ...signedIn.map((one) => one.connection)];
  const within = limits && (await s.store.limits.connectionsWithin([...new Set(named)], limits));
  const isShown = ({ connection }: { connection: string }) => within?.has(connection) ?? true;
  const shown = uses.uses.filter(isShown);
  return {
    ...short,
    permissions,
    uses: shown,
    uses_total: within ? shown.length : uses.uses_total,
    token_path: record.tokenPath,
    redirect_uris: record.redirectUris,
    keeps_no_secret: record.keepsNoSecret,
    signed_in: signedIn.filter(isShown),
    identities: identities.map(identityView),
  };
}

const tokenUrl = (s: Pick<CallerParts, 'settings'>): string => `${s.settings.publicUrl}/oauth/token`;

export async function listCallers(s: CallerParts, { actor }: Asked<'listCallers'>): Promise<{ items: CallerSummary[] }> {
  const all = await s.store.callers.all();
  const limits = limitsOf(actor.operator);
  const within =
    limits === undefined
      ? null
      : await s.store.limits.callersWithin(
          all.map((one) => one.name),
          limits,
        );
  return { items: await Promise.all(all.filter((one) => within === null || within.has(one.name)).map((record) => summary(s, record))) };
}

export const showCaller = async (s: CallerParts, name: string, limits?: Limits): Promise<Caller> => view(s, await findCaller(s, name), limits);

export async function permitCaller(s: CallerParts, { params, body: input, actor }: Command<'permitCaller'>): Promise<void> {
  const { caller: name } = params;
  const operator = actor.operator.name;
  const record = await findCaller(s, name);
  await permit(s, record, input, operator);
}

export async function withdrawPermission(s: CallerParts, { params, actor }: Command<'withdrawPermission'>): Promise<void> {
  const { caller: name, permission: id } = params;
  const operator = actor.operator.name;
  const record = await findCaller(s, name);
  await withdraw(s, record, id, operator);
}

/** @throws {Fault} INPUT_INVALID where another caller has this token path */
async function refuseTakenPath(s: CallerParts, path: string | null | undefined, but: string): Promise<void> {
  if (!path) return;
  const other = await s.store.callers.byTokenPath(path);
  if (other && other.id !== but) throw new Fault('INPUT_INVALID', { places: [{ path: 'token_path', why: `The caller ${other.name} has it.` }] });
}

export async function addCaller(s: CallerParts, { body: input, actor }: Command<'addCaller'>): Promise<NewKey> {
  const operator = actor.operator.name;
  if (await s.store.callers.byName(input.name)) throw new Fault('NAME_TAKEN', { detail: `A caller called ${input.name} exists.` });
  for (const connection of input.connections) await connectionIdOf(s, connection);
  await refuseTakenPath(s, input.token_path, '');
  const record: CallerRow = {
    id: recordId(s.ports),
    name: input.name,
    title: input.title,
    callerId: `${CALLER_ID_PREFIX}${base64url(s.ports.random.bytes(12))}`,
    tokenPath: input.token_path ?? null,
    redirectUris: input.redirect_uris ?? [],
    keepsNoSecret: input.keeps_no_secret ?? false,
    createdAt: s.ports.clock.now(),
  };
  await s.store.callers.add(record);
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

async function makeKey(s: CallerParts, record: CallerRow, label: string, endsAt: number | null): Promise<NewKey> {
  const key = `${CALLER_KEY_PREFIX}${base64url(s.ports.random.bytes(32))}`;
  await s.store.callers.addKey({
    id: recordId(s.ports),
    callerId: record.id,
    label,
    starts: key.slice(0, STARTS_SHOWN),
    hash: hashOf(key),
    startsAt: s.ports.clock.now(),
    endsAt,
    lastUsedAt: null,
    retired: false,
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

export async function addKey(s: CallerParts, { params, body: input, actor }: Command<'addKey'>): Promise<NewKey> {
  const { caller: name } = params;
  const operator = actor.operator.name;
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

export async function retireKey(s: CallerParts, { params, actor }: Command<'retireKey'>): Promise<void> {
  const { caller: name, key: keyId } = params;
  const operator = actor.operator.name;
  const record = await findCaller(s, name);
  const key = await s.store.callers.key(record.id, keyId);
  if (!key) throw new Fault('NOT_FOUND', { detail: 'The caller has no such key.' });
  if (key.endsAt === null || key.endsAt > s.ports.clock.now()) {
    await s.store.callers.retireKey(keyId, s.ports.clock.now());
    s.history.add({ actor: operator, kind: 'key_retired', subject: `caller:${name}`, says: `Retired the key ${key.starts}\u2026` });
    await s.changes.announce('caller', name);
  }
}

/** Changes what is named; of `connections`, one that is left out is withdrawn. */
export async function changeCaller(s: CallerParts, { params, body: input, actor }: Command<'changeCaller'>): Promise<void> {
  const { caller: name } = params;
  const operator = actor.operator.name;
  const record = await findCaller(s, name);
  await refuseTakenPath(s, input.token_path, record.id);
  const set: Partial<CallerRow> = {
    ...(input.title !== undefined && { title: input.title }),
    ...(input.token_path !== undefined && { tokenPath: input.token_path }),
    ...(input.redirect_uris && { redirectUris: input.redirect_uris }),
    ...(input.keeps_no_secret !== undefined && { keepsNoSecret: input.keeps_no_secret }),
  };
  if (Object.keys(set).length > 0) await s.store.callers.change(record.id, set);
  if (input.connections) await setNamed(s, record.id, input.connections);
  await s.changes.announce('caller', name);
  s.history.add({
    actor: operator,
    kind: 'caller_changed',
    subject: `caller:${name}`,
    says: 'Changed the caller.',
    data: { ...input, changes: changesOf(record, set) },
  });
}

export async function removeCaller(s: CallerParts, { params, actor }: Command<'removeCaller'>): Promise<{ done: true }> {
  const { caller: name } = params;
  const operator = actor.operator.name;
  const record = await findCaller(s, name);
  await endSignIns(s, { callerId: record.id }, 'caller_removed');
  await s.store.callers.remove(record.id);
  await s.changes.announce('caller', name);
  s.history.add({ actor: operator, kind: 'caller_removed', subject: `caller:${name}`, says: 'Removed the caller and its keys.' });
  return { done: true };
}

export async function endToolSignIn(s: CallerParts, { params, actor }: Command<'endSignIn'>): Promise<void> {
  const { caller: name, sign_in: id } = params;
  const operator = actor.operator.name;
  const record = await findCaller(s, name);
  await endSignIn(s, record, id, operator);
}
