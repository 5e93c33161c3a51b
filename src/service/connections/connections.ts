import { attempts } from '../../api/attempts.ts';
import type { Attempt, ConnectionSummary } from '../../api/connections.ts';
import { POLICY_LABELS } from '../../api/vocabulary.ts';
import { changesOf } from '../../core/activity/changes.ts';
import { operationsOf } from '../../core/clients/privilege.ts';
import { Fault } from '../../core/fault.ts';
import { connectionHealth } from '../../core/health.ts';
import { type GrantType, WIRE_GRANT_TYPES } from '../../core/oauth/grant-kinds.ts';
import { takesDevice } from '../../core/oauth/ways.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { checkPlaceholders } from '../../core/provider/placeholders.ts';
import { nextRenewalAt, type RenewalPolicy } from '../../core/renewal/plan.ts';
import { bringForward, end, reschedule } from '../../core/renewal/transitions.ts';
import { reviewScopes } from '../../core/scopes/compare.ts';
import { findClient } from '../clients/index.ts';
import { attemptView } from '../grants/index.ts';
import { type Asked, type Command, limitsOf } from '../operation-call.ts';
import { recordId } from '../ports.ts';
import { methodOf, summaries, TICKS_IN_LISTS } from '../records/index.ts';
import { type ConnectionRow, NO_PERSON } from '../store/connections.ts';
import { endSignIns } from '../tool-sign-ins/index.ts';
import { current, findKnown } from './find.ts';
import type { ConnectionParts } from './parts.ts';

/** A page of connections by name, and how many match in all. */
export async function listConnections(s: ConnectionParts, { query, actor }: Asked<'listConnections'>): Promise<{ items: ConnectionSummary[]; total: number }> {
  await s.connectionStates.settle();
  const narrow = { ...query, labels: limitsOf(actor.operator) };
  const [page, total] = await Promise.all([s.store.connectionList.read(narrow), s.store.connectionList.count(narrow)]);
  return { items: await summaries(s, page, TICKS_IN_LISTS), total };
}

/** @throws {Fault} INPUT_INVALID naming each odd scope. */
function checkScopes(definition: ProviderDefinition, scopes: string[], allowUnlisted: boolean): void {
  const remarks = reviewScopes(
    scopes,
    definition.scopes.map((scope) => scope.name),
  ).filter((remark) => !(allowUnlisted && remark.kind !== 'delimiter'));
  if (definition.scopes.length === 0 || remarks.length === 0) return;
  throw new Fault('INPUT_INVALID', {
    detail: remarks[0]?.says ?? '',
    places: remarks.map((remark) => ({ path: 'scopes', why: remark.says })),
    remedy: 'Fix the scope, or send it as it is with allow_unlisted_scopes.',
  });
}

/** @throws {Fault} INPUT_INVALID naming each operation that the definition does not know. */
function checkOperations(definition: ProviderDefinition, ids: string[]): void {
  const known = new Set(operationsOf(definition).map((operation) => operation.id));
  const unknown = ids.filter((id) => !known.has(id));
  if (unknown.length > 0)
    throw new Fault('INPUT_INVALID', { places: unknown.map((id) => ({ path: 'operations', why: `The definition knows no operation ${id}.` })) });
}

export async function addConnection(s: ConnectionParts, { body: input, actor }: Command<'addConnection'>): Promise<void> {
  const operator = actor.operator.name;
  const { record: client, definition } = await findClient(s, input.provider, input.client);
  const grantType: GrantType = input.grant_type ?? (client.type === 'service_account' ? 'client_credentials' : 'authorization_code');
  if (!definition.server.grant_types_supported.includes(WIRE_GRANT_TYPES[grantType]) && !(grantType === 'authorization_code' && takesDevice(definition)))
    throw new Fault('INPUT_INVALID', {
      places: [{ path: 'grant_type', why: `${definition.title} takes: ${definition.server.grant_types_supported.join(', ')}.` }],
    });
  if (grantType === 'jwt_bearer') {
    if (methodOf(client, definition) !== 'private_key_jwt')
      throw new Fault('INPUT_INVALID', { places: [{ path: 'grant_type', why: 'It needs a client that authenticates by private_key_jwt: its key signs.' }] });
    if (!input.expected_account)
      throw new Fault('INPUT_INVALID', { places: [{ path: 'expected_account', why: 'Name the account in whose name the service account asks.' }] });
  }
  checkPlaceholders(definition, input.placeholders, ['connection']);
  checkOperations(definition, input.operations);
  checkScopes(definition, input.scopes, input.allow_unlisted_scopes);
  if (await s.store.connections.byName(input.name)) throw new Fault('NAME_TAKEN', { detail: `A connection called ${input.name} exists.` });
  await s.store.connections.add(
    {
      id: recordId(s.ports),
      name: input.name,
      clientId: client.id,
      // Nothing is consented to for a shared connection itself: it is there for people from now on.
      intent: input.shared ? 'active' : 'draft',
      currentGrantId: null,
      standbyGrantId: null,
      standbyWhy: null,
      scopes: [...new Set(input.scopes)],
      expectedAccount: input.expected_account || null,
      grantType,
      placeholders: input.placeholders,
      operations: [...new Set(input.operations)],
      policy: input.policy,
      lastUsedAt: null,
      revision: 1,
      createdAt: s.ports.clock.now(),
      ...NO_PERSON,
      shared: input.shared,
    },
    input.labels,
  );
  s.history.add({
    actor: operator,
    kind: 'connection_added',
    subject: `connection:${input.name}`,
    says: `Added the connection ${input.name} through ${input.provider}/${input.client}.`,
  });
}

/** What the next consent asks for; the tokens held now are not touched. @throws {Fault} REVISION_CONFLICT */
export async function changeConnection(s: ConnectionParts, { params, body: input, actor }: Command<'changeConnection'>): Promise<void> {
  const { connection: name } = params;
  const operator = actor.operator.name;
  const one = await findKnown(s, name);
  const { definition } = await findClient(s, one.provider, one.client);
  const set: Partial<ConnectionRow> = {};
  if (input.scopes) {
    checkScopes(definition, input.scopes, input.allow_unlisted_scopes);
    set.scopes = [...new Set(input.scopes)];
  }
  if (input.operations) {
    checkOperations(definition, input.operations);
    set.operations = [...new Set(input.operations)];
  }
  if (input.expected_account !== undefined) set.expectedAccount = input.expected_account || null;
  if (input.policy) set.policy = input.policy;
  const former = await s.store.connections.byName(name);
  if (!(await s.store.connections.revise(one.id, input.revision, set))) throw new Fault('REVISION_CONFLICT');
  if (input.labels) {
    await s.store.connections.setLabels(one.id, input.labels);
    await s.changes.announce('connection', name); // who may use it can be another now
  }
  if (input.policy && one.grantId) await planAgain(s, one.grantId, definition, { policy: input.policy, paused: one.facts.intent === 'paused' });
  const says = [
    ...(input.operations ? ['Changed the operations that it is for.'] : []),
    ...(input.scopes || input.expected_account !== undefined ? ['Changed what the next consent requests.'] : []),
    ...(input.labels ? [`Its labels are now ${input.labels.join(', ') || 'none'}.`] : []),
    ...(input.policy ? [`It is renewed ${POLICY_LABELS[input.policy]}.`] : []),
  ];
  s.history.add({
    actor: operator,
    kind: 'connection_changed',
    subject: `connection:${name}`,
    says: says.join(' '),
    data: { changes: changesOf({ ...former, labels: one.labels }, { ...set, ...(input.labels ? { labels: input.labels } : {}) }) },
  });
}

/** The next renewal by another policy, paused or resumed; an uncertain wait is not touched. */
async function planAgain(s: ConnectionParts, grantId: string, definition: ProviderDefinition, need: { policy: RenewalPolicy; paused: boolean }): Promise<void> {
  const held = await s.store.renewals.read(grantId);
  if (!held) return;
  const connection = await s.store.connections.byCurrentGrant(grantId);
  const nextAt = nextRenewalAt(held.row, { ...need, lastUsedAt: connection?.lastUsedAt ?? null }, definition.dialect, s.ports.random.unit());
  await s.store.renewals.update([grantId], reschedule(nextAt));
}

/** The last attempts, masked. */
export async function listAttempts(s: ConnectionParts, name: string): Promise<{ items: Attempt[] }> {
  const one = await findKnown(s, name);
  const kept = one.grantId ? await s.wireLog.list(one.grantId) : [];
  return { items: kept.map(attemptView) };
}

const PEOPLE_AT_ONCE = 200;
/** Rows of people who never connected, or who disconnected, go with the shared connection. @throws {Fault} IN_USE while someone is connected */
async function removePeople(s: ConnectionParts, shared: { id: string; name: string }): Promise<void> {
  const connected = (await s.store.connectionList.countPeople(shared.id)).filter(({ state }) => !['draft', 'revoked', 'not_yet_consented'].includes(state));
  const count = connected.reduce((sum, one) => sum + one.count, 0);
  if (count > 0)
    throw new Fault('IN_USE', {
      detail: `${count} ${count === 1 ? 'person is' : 'people are'} connected through ${shared.name}.`,
      remedy: 'Disconnect them first: `rk person list`, then `rk person disconnect`.',
    });
  for (let after = ''; ; ) {
    const names = await s.store.connections.peopleOf(shared.id, after, PEOPLE_AT_ONCE);
    for (const name of names) {
      const row = await s.store.connections.byName(name);
      const grants = row ? await s.store.grants.ofConnection(row.id) : [];
      if (row)
        await s.store.connections.remove(
          row.id,
          grants.map((grant) => grant.id),
        );
    }
    const last = names.at(-1);
    if (last === undefined || names.length < PEOPLE_AT_ONCE) return;
    after = last;
  }
}

/**
 * Deletes the connection and all its tokens here. What the provider still honors is not touched.
 * @throws {Fault} IN_USE while jobs collect through it
 */
export async function removeConnection(s: ConnectionParts, { params, actor }: Command<'removeConnection'>): Promise<{ done: true }> {
  const { connection: name } = params;
  const operator = actor.operator.name;
  const one = await findKnown(s, name);
  const jobs = (await s.store.jobs.ofConnections([one.id])).map((job) => job.name);
  if (jobs.length > 0) throw new Fault('IN_USE', { detail: `Jobs collect through it: ${jobs.slice(0, 10).join(', ')}.`, remedy: 'Remove these jobs first.' });
  if (one.shared) await removePeople(s, one);
  const grants = await s.store.grants.ofConnection(one.id);
  await endSignIns(s, { connectionId: one.id }, 'connection_removed');
  await s.store.renewals.update(
    grants.map((grant) => grant.id),
    end(),
  );
  await s.store.connections.remove(
    one.id,
    grants.map((grant) => grant.id),
  );
  for (const grant of grants) s.cache.drop(grant.id);
  s.history.add({ actor: operator, kind: 'connection_removed', subject: `connection:${name}`, says: 'Removed the connection and deleted its tokens.' });
  await s.changes.announce('connection', name);
  return { done: true };
}

const OTHERS_WAIT_MS = 10_000;
const LOOK_EVERY_MS = 50;

/** Renews a row that is due now. A worker, here or on another replica, may have claimed it first: then its outcome is waited for. */
async function renewAndWait(s: ConnectionParts, grantId: string, generation: number): Promise<void> {
  if (!(await s.engine.renewOne(grantId)).claimed) await othersOutcome(s, grantId, generation);
}

async function othersOutcome(s: ConnectionParts, grantId: string, generation: number): Promise<void> {
  for await (const _ of attempts({ withinMs: OTHERS_WAIT_MS, everyMs: LOOK_EVERY_MS })) {
    const row = (await s.store.renewals.read(grantId))?.row;
    if (!row || row.generation > generation || row.leaseUntil === null) break;
  }
  s.cache.drop(grantId); // whoever asked for a new token gets it here, and not the one before it
}

/** Brings the renewal forward to now and runs it; one under way is waited for, and an uncertain wait is obeyed. */
export async function renewConnection(s: ConnectionParts, { params, actor }: Command<'renewConnection'>): Promise<void> {
  const { connection: name } = params;
  const operator = actor.operator.name;
  const { one, grantId } = await current(s, name);
  const held = await s.store.renewals.read(grantId);
  if (!held || held.row.nextAt === null) throw new Fault('GRANT_REFUSED', { detail: connectionHealth(one.facts, s.ports.clock.now()).cause ?? '' });
  if ((await s.store.renewals.update([grantId], bringForward())) > 0) {
    await renewAndWait(s, grantId, held.row.generation);
    const isAsBefore = ((await s.store.renewals.read(grantId))?.row.generation ?? 0) === held.row.generation;
    if (isAsBefore && s.hold.isHeld()) throw new Fault('INSTALLATION_HELD');
  } else {
    await othersOutcome(s, grantId, held.row.generation);
    if (((await s.store.renewals.read(grantId))?.row.generation ?? 0) === held.row.generation)
      throw new Fault('RENEWAL_PENDING', { detail: 'A renewal is under way, or its outcome is still uncertain.', retryAfterMs: 2_000 });
  }
  s.history.add({ actor: operator, kind: 'renewal_asked', subject: `connection:${name}`, says: 'Asked for a renewal now.' });
}

/**
 * No token issuance and no call any more, on any replica that sees the database, within a second. Answers in flight are still saved, and it
 * is kept active. Tokens already issued stay valid at the provider.
 */
export async function pauseConnection(s: ConnectionParts, { params, actor }: Command<'pauseConnection'>): Promise<void> {
  const { connection: name } = params;
  const operator = actor.operator.name;
  const one = await findKnown(s, name);
  if (one.facts.intent === 'paused') return;
  if (!(await s.store.connections.turn(one.id, 'active', 'paused'))) throw new Fault('CONNECTION_NOT_CONSENTED');
  if (one.grantId) s.cache.drop(one.grantId);
  await s.changes.announce('connection', name);
  const { definition } = await findClient(s, one.provider, one.client);
  if (one.grantId) await planAgain(s, one.grantId, definition, { policy: one.policy, paused: true });
  s.history.add({ actor: operator, kind: 'paused', subject: `connection:${name}`, says: 'Paused it.' });
}

/** Renews first, so that what is issued afterwards was good a moment ago; then issues tokens again. */
export async function resumeConnection(s: ConnectionParts, { params, actor }: Command<'resumeConnection'>): Promise<void> {
  const { connection: name } = params;
  const operator = actor.operator.name;
  const one = await findKnown(s, name);
  if (one.facts.intent !== 'paused') return;
  if (one.grantId && (await s.store.renewals.update([one.grantId], bringForward())) > 0) await renewAndWait(s, one.grantId, one.generation);
  await s.store.connections.turn(one.id, 'paused', 'active');
  await s.changes.announce('connection', name);
  const { definition } = await findClient(s, one.provider, one.client);
  // The renewal just made was planned for a paused connection: only to be kept active.
  if (one.grantId) await planAgain(s, one.grantId, definition, { policy: one.policy, paused: false });
  s.history.add({ actor: operator, kind: 'resumed', subject: `connection:${name}`, says: 'Resumed it.' });
}
