import type { PersonEvents } from '../../api/people.ts';
import { maskedAddress } from '../../core/calls/secret-values.ts';
import { MASK, unmasked } from '../../core/calls/stored-values.ts';
import { type CloudEvent, cloudEvent } from '../../core/cloud-event.ts';
import { Fault } from '../../core/fault.ts';
import { type PersonEventKind, personEventType } from '../../core/people/event.ts';
import { askedLetter, expiresLetter, lostLetter } from '../../core/people/letters.ts';
import { nextTryMs } from '../../core/redelivery.ts';
import { Secret } from '../../core/secret.ts';
import { iso } from '../iso.ts';
import type { Asked, Command } from '../operation-call.ts';
import { type Posted, postWebhook } from '../outgoing/index.ts';
import { recordId } from '../ports.ts';
import { runPeriodically } from '../run-periodically.ts';
import type { ConnectionRow } from '../store/connections.ts';
import type { EventDelivery, PersonEventRow } from '../store/person-events.ts';
import { makeOwnLink, urlOf } from './links.ts';
import type { PeopleParts } from './parts.ts';

/** A commit that came a little late must not stand before what a reader of the feed has seen. */
const SETTLED_MS = 750;
const LOOK_MS = 500;
const AT_ONCE = 40;
const CLAIMED_MS = 30_000;
const DEADLINE_MS = 10_000;

interface What {
  shared: Pick<ConnectionRow, 'id' | 'name'>;
  person: Pick<ConnectionRow, 'id' | 'name' | 'personKey' | 'personName' | 'personMail' | 'invitingCallerId'>;
  kind: PersonEventKind;
  /** Of two events with the same one, the second is not added: whoever reports again after a crash does no harm. */
  onceKey: string;
  data: Record<string, unknown>;
  /** The person gets a letter with their private link, where an address is known. The link is the person's: it travels in no event. */
  letter?: { callerId: string | null; purpose: string };
}

/** Adds an event for the application that invited the person. */
export async function record(s: PeopleParts, what: What): Promise<void> {
  const isNew = await s.store.personEvents.add(
    {
      id: recordId(s.ports),
      sharedId: what.shared.id,
      connectionId: what.person.id,
      connectionName: what.shared.name,
      personKey: what.person.personKey ?? '',
      kind: what.kind,
      data: { handle: what.person.name, ...what.data },
      callerId: what.person.invitingCallerId,
      at: s.ports.clock.now(),
    },
    what.onceKey,
  );
  const to = what.person.personMail;
  if (!isNew || !what.letter || to === null || !s.mail.isOn || !WITH_LETTER.has(what.kind)) return;
  const link = await makeOwnLink(s, { sharedId: what.shared.id, connectionId: what.person.id, ...what.letter });
  const letter = letterOf(s, what, urlOf(s, link.ticket));
  if (letter) await s.mail.queue({ connectionId: what.person.id, to, letter });
}

/** What goes to the person by mail: that something is lost, or that something is requested. All else is for the application to report. */
const WITH_LETTER: ReadonlySet<PersonEventKind> = new Set(['withdrawn', 'action_needed', 'expires_soon', 'asked']);
function letterOf(s: PeopleParts, { kind, shared, person, letter }: What, url: string) {
  const about = { name: person.personName, connection: shared.name, url, host: new URL(s.settings.publicUrl).host };
  if (kind === 'withdrawn' || kind === 'action_needed') return lostLetter(about);
  if (kind === 'expires_soon') return expiresLetter(about);
  return kind === 'asked' ? askedLetter({ ...about, purpose: letter?.purpose ?? '' }) : null;
}

function eventOf(s: PeopleParts, row: PersonEventRow): CloudEvent {
  return cloudEvent({
    id: row.id,
    source: `${s.settings.publicUrl}/connections/${row.connectionName}`,
    type: personEventType(row.kind),
    subject: row.personKey,
    at: row.at,
    data: { connection: row.connectionName, ...row.data },
  });
}

/** The same events as a feed, for an application that no one can reach. */
export async function ownEvents(s: PeopleParts, { query, actor }: Asked<'listOwnEvents'>): Promise<{ events: CloudEvent[]; cursor: string; more: boolean }> {
  const after = query.after === undefined ? 0 : Number(query.after);
  const rows = await s.store.personEvents.feed(actor.caller.id, after, query.limit + 1, SETTLED_MS);
  const shown = rows.slice(0, query.limit);
  return { events: shown.map((row) => eventOf(s, row)), cursor: String(shown.at(-1)?.seq ?? after), more: rows.length > query.limit };
}

/** Delivers events, each at least once, for a day; on every replica. Ends when told to stop. */
export const deliverEvents = (s: PeopleParts, stop: AbortSignal): Promise<void> =>
  runPeriodically({ ports: s.ports, everyMs: LOOK_MS, failed: 'delivering events failed', stop }, async () => {
    const due = await s.store.personEvents.due(AT_ONCE);
    await Promise.all(due.map((one) => deliver(s, one)));
    return due.length === AT_ONCE;
  });

async function deliver(s: PeopleParts, one: EventDelivery): Promise<void> {
  if (!(await s.store.personEvents.claim(one, CLAIMED_MS))) return;
  const [row, receiver] = await Promise.all([s.store.personEvents.bySeq(one.seq), s.store.personEvents.receiver(one.callerId)]);
  const now = s.ports.clock.now();
  if (!row || !receiver) return s.store.personEvents.change(one, { state: 'failed', tries: one.tries, nextAt: now, says: 'The receiver was removed.' });
  const sent = await send(s, receiver, row);
  if (sent.done) return s.store.personEvents.change(one, { state: 'delivered', tries: one.tries + 1, nextAt: now, says: sent.says });
  const waitMs = sent.isFinal ? null : nextTryMs({ tries: one.tries, ageMs: now - row.at, retryAfterMs: sent.retryAfterMs, spread: s.ports.random.unit() });
  await s.store.personEvents.change(one, {
    state: waitMs === null ? 'failed' : 'waiting',
    tries: one.tries + 1,
    nextAt: now + (waitMs ?? 0),
    says: sent.says,
  });
}

async function send(s: PeopleParts, receiver: { callerId: string; url: string; secretSealed: Buffer | null }, row: PersonEventRow): Promise<Posted> {
  const at = { table: 'event_receivers', row: receiver.callerId, column: 'secret_sealed' };
  return postWebhook(s.ports, {
    url: receiver.url,
    id: `evt_${row.id}`,
    contentType: 'application/cloudevents+json',
    body: JSON.stringify(eventOf(s, row)),
    secret: receiver.secretSealed && (await s.sealer.open(at, receiver.secretSealed)),
    deadlineMs: DEADLINE_MS,
  });
}

const MAX_SHOWN = 100;

async function callerNamed(s: PeopleParts, name: string): Promise<{ id: string; name: string }> {
  const caller = await s.store.callers.byName(name);
  if (!caller) throw new Fault('NOT_FOUND', { detail: `Caller "${name}" not found.` });
  return caller;
}

export async function showReceiver(s: PeopleParts, name: string): Promise<PersonEvents> {
  const caller = await callerNamed(s, name);
  const [receiver, deliveries] = await Promise.all([s.store.personEvents.receiver(caller.id), s.store.personEvents.deliveries(caller.id, MAX_SHOWN)]);
  return {
    url: receiver?.url ?? null,
    signed: receiver ? receiver.secretSealed !== null : false,
    deliveries: deliveries.map((one) => ({
      cursor: String(one.seq),
      kind: one.kind,
      person: one.personKey,
      at: iso(one.at),
      state: one.state,
      tries: one.tries,
      next_at: one.state === 'waiting' ? iso(one.nextAt) : null,
      says: one.says,
    })),
  };
}

export async function setReceiver(s: PeopleParts, { params, body, actor }: Command<'setEventReceiver'>): Promise<PersonEvents> {
  const caller = await callerNamed(s, params.caller);
  const former = await s.store.personEvents.receiver(caller.id);
  const url = unmasked(body.url, former && { stored: former.url, masked: maskedAddress(former.url, MASK) }, 'url');
  // Without a new secret the former one stays, unless the address changes: then another program reads them.
  const kept = former && former.url === url ? former.secretSealed : null;
  const secretSealed =
    body.signing_secret === undefined
      ? kept
      : s.sealer.seal({ table: 'event_receivers', row: caller.id, column: 'secret_sealed' }, new Secret(body.signing_secret));
  await s.store.personEvents.setReceiver({ callerId: caller.id, url, urlSealed: null, secretSealed, changedAt: s.ports.clock.now() });
  s.history.add({
    actor: actor.operator.name,
    kind: 'events_set',
    subject: `caller:${caller.name}`,
    says: `Events about people go to ${new URL(url).host}.`,
  });
  return showReceiver(s, params.caller);
}

/** Shows values that may be secrets. Activity records who looked. */
export async function showReceiverValues(s: PeopleParts, { params, actor }: Command<'showReceiverValues'>): Promise<{ url: string | null }> {
  const caller = await callerNamed(s, params.caller);
  const receiver = await s.store.personEvents.receiver(caller.id);
  s.history.add({
    ...{ actor: actor.operator.name, kind: 'values_shown', subject: `caller:${caller.name}` },
    says: 'Looked at the whole address that events are sent to.',
  });
  return { url: receiver?.url ?? null };
}

export async function removeReceiver(s: PeopleParts, { params, actor }: Command<'removeEventReceiver'>): Promise<{ done: true }> {
  const caller = await callerNamed(s, params.caller);
  await s.store.personEvents.removeReceiver(caller.id);
  s.history.add({ actor: actor.operator.name, kind: 'events_set', subject: `caller:${caller.name}`, says: 'Events about people are no longer sent.' });
  return { done: true };
}

export async function replayEvents(s: PeopleParts, { params, body }: Command<'replayEvents'>): Promise<{ sent_again: number }> {
  const caller = await callerNamed(s, params.caller);
  return { sent_again: await s.store.personEvents.replay(caller.id, body.from === undefined ? null : Number(body.from)) };
}
