import type { z } from 'zod';
import type { CallAnswer } from '../../api/common.ts';
import type { Connection, DecidedStandby } from '../../api/connections.ts';
import { GRANT_KIND_LABELS } from '../../api/vocabulary.ts';
import { compareAnswers } from '../../core/compare-answers.ts';
import { Fault } from '../../core/fault.ts';
import { isKey, KEY_LIFE_MS } from '../../core/oauth/grant-kinds.ts';
import { addressOfProbe, methodOfProbe, probeOf } from '../../core/provider/api.ts';
import { firstRow } from '../../core/renewal/row.ts';
import { Secret } from '../../core/secret.ts';
import { apiAddress, callableWith, callGrant, connectionDefinition, isGood, keepProof, moveToStandby, newGrant, retireGrant } from '../grants/index.ts';
import { iso } from '../iso.ts';
import type { Command } from '../operation-call.ts';
import { recordId } from '../ports.ts';
import { refuseShared } from '../records/index.ts';
import type { ListedConnection } from '../store/connection-rows.ts';
import type { ConnectionRow, StandbyWhy } from '../store/connections.ts';
import type { GrantRow } from '../store/grants.ts';
import { findKnown } from './find.ts';
import type { ConnectionParts } from './parts.ts';

/** Two grants behind one name: one in use, one that waits. Prepared, switched by a stated act, compared, and back. */
export async function standbyView(s: ConnectionParts, one: ListedConnection): Promise<Connection['standby']> {
  const grant = one.standby && (await s.store.grants.byId(one.standby.grantId));
  if (!one.standby || !grant) return null;
  const held = await s.store.renewals.read(grant.id);
  const client = await s.store.clients.byId(grant.clientId ?? '');
  const alive = held !== null && !held.row.ended && (isKey(grant.kind) || held.row.nextAt !== null || held.row.expiresAt > s.ports.clock.now());
  return {
    why: one.standby.why,
    kind: grant.kind,
    account: grant.accountLabel,
    opened: grant.opened,
    client: client?.name ?? one.client,
    scopes: grant.scopes,
    consented_at: iso(grant.consentedAt),
    proof: grant.proof,
    alive,
    says: SAYS[one.standby.why],
  };
}

const SAYS = {
  prepared: 'On standby, and kept active. Nothing changes for callers until you switch.',
  former: 'What was in use before the switch. It is kept, so that you can go back.',
  other_account: 'Another account consented than expected. Its tokens are kept and not used until you decide.',
  not_verified: 'The tokens could not be verified. They are kept and not used until you decide.',
} as const;

/** The static key that an integration uses today. It waits beside tokens in use; where there are none, it is used. @throws {Fault} INPUT_INVALID */
export async function setKey(s: ConnectionParts, { params, body, actor }: Command<'setKey'>): Promise<void> {
  const { connection: name } = params;
  const { key } = body;
  const operator = actor.operator.name;
  const one = await findKnown(s, name);
  refuseShared(one);
  const { definition, record } = await connectionDefinition(s, one);
  if (!definition.apis.some((api) => api.static_key))
    throw new Fault('INPUT_INVALID', {
      detail: `${definition.title} takes no static key, as far as its definition states.`,
      places: [{ path: 'key', why: 'no API of the definition names static_key' }],
      remedy: 'If its API takes one, add static_key to that API in the definition.',
    });
  if (!/^[\x21-\x7e]+$/.test(key))
    throw new Fault('INPUT_INVALID', { places: [{ path: 'key', why: 'A key is one word of printable ASCII, without spaces.' }] });
  const id = recordId(s.ports);
  const now = Math.floor(s.ports.clock.now());
  const life = { issuedAt: now, expiresAt: now + KEY_LIFE_MS };
  const probe = probeOf(definition, null); // a static key states no scopes
  await s.store.grants.add(
    newGrant({
      id,
      connectionId: one.id,
      kind: 'static_key',
      scopes: one.scopes,
      consentedBy: operator,
      consentedAt: now,
      proof: probe ? 'not_verified' : 'not_defined',
      clientId: record.id,
      placeholders: one.placeholders,
    }),
  );
  await s.store.renewals.insert(
    id,
    record.id,
    { ...firstRow(life, null), cause: null },
    { accessSealed: s.sealer.seal({ table: 'tokens', row: id, column: 'access_sealed' }, new Secret(key)), refreshSealed: null },
  );
  const [grant, connection] = await Promise.all([s.store.grants.byId(id), s.store.connections.byId(one.id)]);
  let good = true;
  if (grant && connection && probe) {
    const { grant: called, definition: meets, about } = await callableWith(s, grant, connection);
    const answer = await callGrant(s, {
      grant: called,
      address: apiAddress(meets, addressOfProbe(meets, probe)),
      what: { method: methodOfProbe(probe) },
      about,
    });
    await keepProof(s, id, answer, meets);
    good = isGood(answer, meets);
  }
  // A newer key takes the place of the key in use once it was seen to work; beside tokens, or unverified, it waits.
  const newer = one.kind === 'static_key' && good;
  const formerLives = one.grantId !== null && one.facts.intent !== 'revoked' && !newer;
  if (formerLives) await moveToStandby(s, one.id, id, good ? 'prepared' : 'not_verified');
  else {
    await s.store.connections.change(one.id, { currentGrantId: id, ...(one.facts.intent === 'paused' ? {} : { intent: 'active' }) });
    if (newer && one.grantId) await retireGrant(s, one.grantId, 'replaced', id);
  }
  await s.changes.announce('connection', name);
  s.history.add({
    actor: operator,
    kind: 'key_set',
    subject: `connection:${name}`,
    says: formerLives ? 'Gave a static key; it waits beside the tokens in use.' : 'Gave a static key; it is in use.',
  });
}

/** Uses what waits, or discards it. With a reference call before and after; where the later one fails, the former is used again. */
export async function decideStandby(s: ConnectionParts, { params, body: input, actor }: Command<'decideStandby'>): Promise<z.output<typeof DecidedStandby>> {
  const { connection: name } = params;
  const operator = actor.operator.name;
  const connection = await s.store.connections.byName(name);
  if (!connection) throw new Fault('NOT_FOUND', { detail: `Connection "${name}" not found.` });
  const waiting = connection.standbyGrantId ? await s.store.grants.byId(connection.standbyGrantId) : null;
  if (!waiting)
    throw new Fault('NOT_FOUND', {
      detail: 'Nothing waits beside what is in use.',
      remedy: 'Prepare it first: open the connection with `prepare`, or give a key.',
    });
  const subject = `connection:${name}`;
  if (input.decision === 'discard') {
    await s.store.connections.clearStandby(connection.id, waiting.id);
    const retired = await retireGrant(s, waiting.id, 'forgotten', connection.currentGrantId);
    await s.changes.announce('connection', name);
    s.history.add({ actor: operator, kind: 'standby_discarded', subject, says: `Discarded on standby: ${inWords(waiting)}.` });
    return {
      decision: 'discard',
      says: `Discarded: ${inWords(waiting)}. ${retired === 'revoked' ? 'It is being revoked at the provider.' : 'It stays valid at the provider until someone withdraws it.'}`,
      before: null,
      after: null,
      compared: null,
      went_back: false,
    };
  }
  const former = connection.currentGrantId ? await s.store.grants.byId(connection.currentGrantId) : null;
  const before = former && connection.intent !== 'revoked' ? await reference(s, former, connection, input.path) : null;
  const keeps =
    former !== null &&
    former.endedAt === null &&
    (isKey(former.kind) || isKey(waiting.kind) || connection.standbyWhy === 'prepared' || connection.standbyWhy === 'former');
  await put(s, connection, waiting, former && keeps ? { id: former.id, why: 'former' } : null);
  // Whoever decides for another account has said which one is expected from now on.
  if (connection.standbyWhy === 'other_account' && connection.expectedAccount)
    await s.store.connections.change(connection.id, { expectedAccount: waiting.accountLabel });
  const after = await reference(s, waiting, { ...connection, currentGrantId: waiting.id }, input.path);
  const good = after === null || after.good;
  const back = !good && former !== null && keeps && before?.good === true;
  if (back && former) await put(s, { ...connection, currentGrantId: waiting.id, standbyGrantId: former.id }, former, { id: waiting.id, why: 'not_verified' });
  else if (former && !keeps) await retireGrant(s, former.id, 'replaced', waiting.id);
  const compared = before?.answer && after?.answer ? compareAnswers(before.answer, after.answer) : null;
  const says = back
    ? `The call with ${inWords(waiting)} failed, so ${inWords(former)} is in use again.`
    : `In use now: ${inWords(waiting)}.${keeps && former ? ` Kept, so that you can go back: ${inWords(former)}.` : ''}${compared === null ? '' : compared.same ? ' The reference call answered the same before and after.' : ' The reference call answered otherwise than before.'}`;
  s.history.add({ actor: operator, kind: back ? 'switch_failed' : 'switched', subject, says, data: { same: compared?.same ?? null } });
  return { decision: 'use', says, before: before?.answer ?? null, after: after?.answer ?? null, compared, went_back: back };
}

const inWords = (grant: Pick<GrantRow, 'kind' | 'accountLabel'> | null): string =>
  grant === null ? 'nothing' : `${GRANT_KIND_LABELS[grant.kind]}${grant.accountLabel ? ` of ${grant.accountLabel}` : ''}`;

/** Makes one grant current and another, or none, wait: one conditional statement, so that callers meet one or the other. @throws {Fault} REVISION_CONFLICT */
async function put(s: ConnectionParts, was: ConnectionRow, now: GrantRow, beside: { id: string; why: StandbyWhy } | null): Promise<void> {
  if (!(await s.store.connections.switchGrants(was, now, beside))) throw new Fault('REVISION_CONFLICT');
  if (was.currentGrantId) s.cache.drop(was.currentGrantId);
  await s.changes.announce('connection', was.name);
}

/** The reference call with one grant: the path given, else the probe. Null: there is nothing to call. */
async function reference(
  s: ConnectionParts,
  grant: GrantRow,
  connection: ConnectionRow,
  path: string | undefined,
): Promise<{ answer: CallAnswer | null; good: boolean } | null> {
  if (grant.endedAt !== null) return null;
  try {
    const { grant: called, definition, about } = await callableWith(s, grant, connection);
    const probe = probeOf(definition, isKey(grant.kind) ? null : connection.scopes);
    if (path === undefined && !probe) return null;
    const answer = await callGrant(s, {
      grant: called,
      address: apiAddress(definition, path ?? (probe ? addressOfProbe(definition, probe) : '/')),
      what: { method: path === undefined && probe ? methodOfProbe(probe) : 'GET' },
      about,
    });
    await keepProof(s, grant.id, answer, definition);
    return { answer, good: isGood(answer, definition) };
  } catch (cause) {
    if (!(cause instanceof Fault) || cause.code === 'HOST_NOT_LISTED') throw cause;
    return { answer: null, good: false }; // no token could be had: that is an answer too
  }
}
