import type { Person, PersonCounts } from '../../api/people.ts';
import { Fault } from '../../core/fault.ts';
import { connectionHealth } from '../../core/health.ts';
import { revokeConnection } from '../connections/index.ts';
import { hashOf } from '../hash.ts';
import { isoOrNull } from '../iso.ts';
import { type Asked, type Command, noOperator } from '../operation-call.ts';
import type { ListedConnection } from '../store/connection-rows.ts';
import type { ConnectionRow } from '../store/connections.ts';
import { record } from './events.ts';
import { findPerson, findShared } from './find.ts';
import { needPeople } from './invitations.ts';
import type { PeopleParts } from './parts.ts';

type Query = Asked<'listPeople'>['query'];

async function page(s: PeopleParts, shared: ConnectionRow, query: Query): Promise<{ items: Person[]; total: number }> {
  await s.connectionStates.settle();
  if (query.person !== undefined) {
    const row = await s.store.connections.ofPerson(shared.id, hashOf(query.person));
    const items = row ? await s.store.connectionList.read({ names: [row.name] }) : [];
    return { items: items.map((one) => personView(one, s.ports.clock.now())), total: items.length };
  }
  const narrow = { search: query.search, state: query.state, label: query.label, personOf: shared.id };
  const [rows, total] = await Promise.all([
    s.store.connectionList.read({ ...narrow, after: query.after, limit: query.limit }),
    s.store.connectionList.count(narrow),
  ]);
  return { items: rows.map((one) => personView(one, s.ports.clock.now())), total };
}

function personView(one: ListedConnection, now: number): Person {
  const granted = one.grantedScopes ?? [];
  return {
    person: one.person?.key ?? '',
    handle: one.name,
    name: one.person?.name ?? null,
    ...connectionHealth(one.facts, now),
    account: one.account,
    scopes: granted,
    missing: one.grantId === null ? [] : one.scopes.filter((scope) => !granted.includes(scope)),
    labels: one.labels,
    connected_at: isoOrNull(one.consentedAt),
    reconnect_by: isoOrNull(one.reconnectBy),
  };
}

export async function listPeople(s: PeopleParts, { params, query }: Asked<'listPeople'>): Promise<{ items: Person[]; total: number; counts: PersonCounts }> {
  const shared = await findShared(s, params.connection);
  const listed = await page(s, shared, query);
  const counts = await s.store.connectionList.countPeople(shared.id);
  return { ...listed, counts: counts.map((one) => ({ state: one.state, cause_key: one.causeKey, count: one.count })) };
}

export async function listOwnPeople(s: PeopleParts, { params, query, actor }: Asked<'listOwnPeople'>): Promise<{ items: Person[]; total: number }> {
  needPeople(actor.caller, params.connection, 'read');
  return page(s, await findShared(s, params.connection), query);
}

/** By the application's own key, or by the handle that the lists show. @throws {Fault} NOT_FOUND */
async function named(s: PeopleParts, shared: ConnectionRow, person: string): Promise<ConnectionRow> {
  const byHandle = person.startsWith(`${shared.name}@`) ? await s.store.connections.byName(person) : null;
  return byHandle?.personOf === shared.id ? byHandle : findPerson(s, shared, person);
}

/** Ends a person's grant here and at the provider; the row and its history stay. */
export async function disconnect(s: PeopleParts, shared: ConnectionRow, row: ConnectionRow, by: string): Promise<{ says: string }> {
  if (row.currentGrantId === null || row.intent === 'revoked') throw new Fault('CONNECTION_NOT_CONSENTED');
  const { says } = await revokeConnection(s, {
    params: { connection: row.name },
    body: undefined,
    actor: { operator: noOperator(by), address: '', device: undefined, agent: null },
  });
  await record(s, {
    shared,
    person: row,
    kind: 'disconnected',
    onceKey: `disconnected ${row.currentGrantId}`,
    data: { by: by === 'person' ? 'person' : by.startsWith('caller:') ? 'application' : 'operator' },
  });
  return { says };
}

export async function disconnectPerson(s: PeopleParts, { params, body, actor }: Command<'disconnectPerson'>): Promise<{ says: string }> {
  const shared = await findShared(s, params.connection);
  return disconnect(s, shared, await named(s, shared, body.person), actor.operator.name);
}

export async function disconnectOwnPerson(s: PeopleParts, { params, body, actor }: Command<'disconnectOwnPerson'>): Promise<{ says: string }> {
  needPeople(actor.caller, params.connection, 'manage');
  const shared = await findShared(s, params.connection);
  return disconnect(s, shared, await findPerson(s, shared, body.person), `caller:${actor.caller.name}`);
}
