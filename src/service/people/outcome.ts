import type { PersonOutcome } from '../../api/people.ts';
import { Fault } from '../../core/fault.ts';
import { connectionHealth, HEALTH_CAUSES } from '../../core/health.ts';
import { decideStandby } from '../connections/index.ts';
import { INVITATION_USED } from '../consent/index.ts';
import { hashOf } from '../hash.ts';
import { type Asked, noOperator } from '../operation-call.ts';
import { emptyOutcome } from '../records/index.ts';
import type { ListedConnection } from '../store/connection-rows.ts';
import type { ConsentRow, StoredOutcome } from '../store/consents.ts';
import { record } from './events.ts';
import { makeOwnLink, urlOf } from './links.ts';
import type { PeopleParts } from './parts.ts';

const DAY_MS = 86_400_000;
const EXPIRES_SOON_MS = 14 * DAY_MS;
const PERSON = noOperator('person');

/** How a person's consent ended; `waiting`: it has not. */
export interface PersonResult {
  kind: 'waiting' | 'connected' | 'partly' | 'denied' | 'other_account' | 'expired' | 'failed';
  account: { id: string; label: string } | null;
  granted: string[];
  missing: string[];
  /** For anything but success: what happened. */
  says: string | null;
}

export function resultOf(consent: Pick<ConsentRow, 'phase' | 'outcome' | 'finishedAt' | 'expiresAt'>, now: number): PersonResult {
  const { account, scopes, problem } = consent.outcome;
  const base = { account: account ?? null, granted: scopes?.granted ?? [], missing: scopes?.missing ?? [], says: problem?.title ?? null };
  if (consent.finishedAt === null) return { ...base, kind: consent.expiresAt <= now ? 'expired' : 'waiting' };
  return { ...base, kind: kindOf(consent.outcome) };
}

function kindOf({ problem, decide, scopes }: StoredOutcome): PersonResult['kind'] {
  if (decide === 'other_account') return 'other_account';
  if (problem) return problem.diagnosis?.cause === 'consent_denied' ? 'denied' : 'failed';
  return (scopes?.missing.length ?? 0) > 0 ? 'partly' : 'connected';
}

/** Runs at the end of each consent of a person, before its outcome is written. It may run again: everything here is done once. */
export async function personConsented(s: PeopleParts, consent: ConsentRow, outcome: StoredOutcome): Promise<void> {
  const row = consent.facts.invitation === undefined ? null : await s.store.invitations.byId(consent.facts.invitation);
  const person = await s.store.connections.byId(consent.connectionId);
  const shared = person?.personOf ? await s.store.connections.byId(person.personOf) : null;
  if (!person || !shared) return;
  // Nobody decides about other people's accounts: what is not as expected is discarded.
  if (outcome.decide !== null && person.standbyGrantId !== null)
    await decideStandby(s, {
      params: { connection: person.name },
      body: { decision: 'discard' },
      actor: { operator: PERSON, address: '', device: undefined, agent: null },
    });
  if (outcome.problem !== null || outcome.decide !== null || outcome.scopes === null) {
    if (row) await s.store.invitations.giveBack(row.id, consent.id);
    return;
  }
  if (row) {
    await s.store.invitations.take(row.id, consent.id);
    await s.store.invitations.endOthers(row.id, consent.id, { ...emptyOutcome(), problem: INVITATION_USED });
  }
  const former = (await s.store.grants.ofConnection(person.id))
    .filter((one) => one.id !== consent.grantId && one.cause !== 'forgotten')
    .sort((a, b) => b.consentedAt - a.consentedAt)[0];
  const granted = [...outcome.scopes.granted].sort();
  const differs = former !== undefined && JSON.stringify([...former.scopes].sort()) !== JSON.stringify(granted);
  await record(s, {
    shared,
    person,
    kind: differs ? 'scopes_changed' : 'consented',
    onceKey: `consent ${consent.id}`,
    data: { account: outcome.account ?? null, granted, missing: outcome.scopes.missing },
  });
}

/** The outcome of a consent, for the application to which the person came back. @throws {Fault} CODE_UNKNOWN */
export async function redeem(s: PeopleParts, { body, actor }: Asked<'redeemCode'>): Promise<PersonOutcome> {
  const row = await s.store.invitations.redeem(hashOf(body.code), actor.caller.id);
  const [person, consent] = row
    ? await Promise.all([s.store.connections.byId(row.connectionId), row.consentId === null ? null : s.store.consents.byId(row.consentId)])
    : [null, null];
  if (!row || !person || !consent) throw new Fault('CODE_UNKNOWN');
  const result = resultOf(consent, s.ports.clock.now());
  const isConnected = result.kind === 'connected' || result.kind === 'partly';
  const link = isConnected ? await makeOwnLink(s, row) : null;
  return {
    person: person.personKey ?? '',
    handle: person.name,
    name: person.personName,
    state: row.callerState,
    result: result.kind === 'waiting' ? 'failed' : result.kind,
    account: result.account,
    granted: result.granted,
    missing: result.missing,
    says: result.says,
    own_link: link && urlOf(s, link.ticket),
  };
}

/** Adds an event when the state of a person's connection changes without a command. Running again, it does nothing. */
export async function personChanged(s: PeopleParts, one: ListedConnection): Promise<void> {
  if (one.person === null || one.grantId === null) return;
  const now = s.ports.clock.now();
  const health = connectionHealth(one.facts, now);
  const ends = one.reconnectBy !== null && one.reconnectBy > now && one.reconnectBy - now < EXPIRES_SOON_MS;
  // What lies at the client no person can fix: nobody is asked to.
  const isLost = health.state === 'action_needed' && health.cause_key !== null && HEALTH_CAUSES[health.cause_key] === 'connection';
  if (!isLost && !(ends && health.state !== 'revoked')) return;
  const onceKey = isLost ? `lost ${one.grantId} ${health.cause_key}` : `expires ${one.grantId}`;
  if (await s.store.personEvents.has(onceKey)) return;
  const [shared, person] = await Promise.all([s.store.connections.byId(one.person.of), s.store.connections.byId(one.id)]);
  if (!shared || !person) return;
  const data = isLost ? { cause: health.cause_key, says: health.cause } : { expires_at: new Date(one.reconnectBy ?? now).toISOString() };
  const kind = !isLost ? 'expires_soon' : health.cause_key === 'refused' ? 'withdrawn' : 'action_needed';
  await record(s, { shared, person, kind, onceKey, data, letter: { callerId: null, purpose: '' } });
}
