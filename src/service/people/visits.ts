import { Fault } from '../../core/fault.ts';
import { connectionHealth } from '../../core/health.ts';
import { base64url } from '../../core/identifiers.ts';
import type { Way } from '../../core/oauth/grant-kinds.ts';
import { waysOf } from '../../core/oauth/ways.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { consentCookieName } from '../consent/index.ts';
import { connectionDefinition } from '../grants/index.ts';
import { hashOf, isHashOf } from '../hash.ts';
import type { ConnectionRow } from '../store/connections.ts';
import type { ConsentRow } from '../store/consents.ts';
import type { InvitationRow } from '../store/invitations.ts';
import { makeOwnLink, urlOf } from './links.ts';
import { type PersonResult, resultOf } from './outcome.ts';
import type { WithConsents } from './parts.ts';
import { disconnect } from './people.ts';

/** Consents that may be begun with one link: denials and mistakes, not a machine that tries for ever. */
const MAX_STARTS = 50;
/** How long what a device brought is shown behind an invitation. */
const DEVICE_SHOWN_MS = 10 * 60_000;
const CODE_BYTES = 24;
const CODE_MS = 10 * 60_000;
const WAYS: readonly Way[] = ['redirect', 'device'];
const isForPeople = (way: Way): boolean => WAYS.includes(way);

/** What a person's page shows: this person's connection, and nothing else of the installation. */
export interface PersonPage {
  invitation: string;
  kind: InvitationRow['kind'];
  /** Whether a consent can be begun; else why not. */
  state: 'open' | 'expired' | 'revoked' | 'used';
  application: string;
  /** Whom the link means, as the application calls them; null: it gave no name. */
  person: string | null;
  provider: string;
  purpose: string;
  expectedAccount: string | null;
  scopes: { name: string; says: string }[];
  /** In which ways they can consent, the usual one first. */
  ways: Way[];
  /** What the provider may show, such as a warning page. */
  notes: string[];
  connected: {
    account: string | null;
    since: number | null;
    scopes: { name: string; says: string }[];
    missing: { name: string; says: string }[];
    actionNeeded: boolean;
  } | null;
  /** Of the last consent that began here. */
  result: PersonResult | null;
  /** What is not taken is revoked at the provider; false: that could end other grants too, so that the person removes it there. */
  revokes: boolean;
  /** The provider has an endpoint for it at all. */
  canRevoke: boolean;
  device: { userCode: string; page: string; pageWithCode: string | null } | null;
  returnHost: string | null;
  expiresAt: number;
}

interface Found {
  row: InvitationRow;
  person: ConnectionRow;
  shared: ConnectionRow;
}

const gone = (): Fault => new Fault('INVITATION_UNKNOWN');
/** The invitation behind a ticket; nothing is used up. @throws {Fault} INVITATION_UNKNOWN */
export async function enter(s: WithConsents, ticket: string): Promise<{ invitation: string; expiresAt: number }> {
  const row = await s.store.invitations.byTicket(hashOf(ticket));
  if (!row) throw gone();
  if (row.openedAt === null) await s.store.invitations.change(row.id, { openedAt: s.ports.clock.now() });
  return { invitation: row.id, expiresAt: row.expiresAt };
}

/** What a browser holds: the ticket of the link, and by name the cookies of consents that began in it. */
export interface Held {
  ticket: string | undefined;
  cookie(name: string): string | undefined;
}

/**
 * A private link is its person's. An invitation may have been forwarded, or read by others: what came of it is shown, ended and passed on
 * only in the browser in which the consent began.
 */
async function isOwner(s: WithConsents, row: InvitationRow, held: Held): Promise<boolean> {
  if (row.kind === 'own') return true;
  const consent = row.consentId === null ? null : await s.store.consents.byId(row.consentId);
  if (!consent) return false;
  // A code on another device leaves no cookie: its page is the one that waits for it.
  if (consent.way === 'device') return consent.finishedAt === null || s.ports.clock.now() - consent.finishedAt < DEVICE_SHOWN_MS;
  return isHashOf(consent.cookieHash, held.cookie(consentCookieName(consent.id)));
}

/** @throws {Fault} INVITATION_UNKNOWN: the browser does not hold the link's ticket */
async function find(s: WithConsents, invitation: string, { ticket }: Held): Promise<Found> {
  const row = await s.store.invitations.byId(invitation);
  if (!row || !isHashOf(row.ticketHash, ticket)) throw gone();
  const [person, shared] = await Promise.all([s.store.connections.byId(row.connectionId), s.store.connections.byId(row.sharedId)]);
  if (!person || !shared) throw gone();
  return { row, person, shared };
}

const stateOf = (row: InvitationRow, now: number): PersonPage['state'] =>
  row.revokedAt !== null ? 'revoked' : row.expiresAt <= now ? 'expired' : row.usesMost !== null && row.uses >= row.usesMost ? 'used' : 'open';

const withWords = (names: readonly string[], definition: ProviderDefinition) =>
  names.map((name) => ({ name, says: definition.scopes.find((one) => one.name === name)?.says ?? '' }));

export async function look(s: WithConsents, invitation: string, held: Held): Promise<PersonPage> {
  const { row, person, shared } = await find(s, invitation, held);
  const isTheirs = await isOwner(s, row, held);
  const now = s.ports.clock.now();
  const [listed] = await s.store.connectionList.read({ names: [person.name] });
  if (!listed) throw gone();
  const { definition, record: client } = await connectionDefinition(s, listed);
  const caller = row.callerId === null ? null : await s.store.callers.byId(row.callerId);
  const consent = row.consentId === null || !isTheirs ? null : await s.store.consents.byId(row.consentId);
  const wanted = [...new Set([...shared.scopes, ...(definition.identity?.needs ?? [])])];
  const granted = listed.grantedScopes ?? [];
  const isConnected = isTheirs && listed.grantId !== null && listed.facts.intent !== 'revoked';
  return {
    invitation,
    kind: row.kind,
    state: stateOf(row, now),
    application: caller ? caller.title || caller.name : 'The operator of this service',
    person: person.personName,
    provider: definition.title,
    purpose: row.purpose,
    expectedAccount: person.expectedAccount,
    scopes: withWords(wanted, definition),
    ways: waysOf(definition, client, person.grantType, s.settings.publicUrl).filter(isForPeople),
    notes: definition.reach.filter((one) => one.reach === client.reach).map((one) => one.says),
    connected: isConnected
      ? {
          account: listed.account,
          since: listed.consentedAt,
          scopes: withWords(granted, definition),
          missing: withWords(
            shared.scopes.filter((scope) => !granted.includes(scope)),
            definition,
          ),
          actionNeeded: connectionHealth(listed.facts, now).state === 'action_needed',
        }
      : null,
    result: consent && resultOf(consent, now),
    canRevoke: definition.server.revocation_endpoint !== undefined,
    revokes: definition.dialect.revocation_ends === 'this_grant' && definition.server.revocation_endpoint !== undefined,
    device: consent ? deviceOf(consent, now) : null,
    returnHost: row.returnTo === null ? null : new URL(row.returnTo).host,
    expiresAt: row.expiresAt,
  };
}

function deviceOf(consent: ConsentRow, now: number): PersonPage['device'] {
  const { device } = consent.facts;
  if (!device || consent.phase !== 'polling' || consent.expiresAt <= now) return null;
  return { userCode: device.userCode, page: device.page, pageWithCode: device.pageWithCode };
}

/** Begins a consent. `location`: where the browser goes, with the cookie that it must carry; null: a code is shown on the page. */
export async function begin(
  s: WithConsents,
  invitation: string,
  held: Held,
  way?: Way,
): Promise<{ consentId: string; cookie: string; location: string } | { location: null }> {
  const { row, person, shared } = await find(s, invitation, held);
  const state = stateOf(row, s.ports.clock.now());
  if (state !== 'open') throw new Fault('INVITATION_ENDED', { detail: ENDED[state] });
  if (shared.intent === 'paused') throw new Fault('CONNECTION_PAUSED', { detail: 'The operator paused it. Try again later.' });
  // What is asked for is what the shared connection asks for now.
  await s.store.connections.change(person.id, {
    scopes: shared.scopes,
    operations: shared.operations,
    placeholders: shared.placeholders,
    policy: shared.policy,
  });
  const target = shared.clientId === person.clientId ? null : await s.store.clients.byId(shared.clientId);
  if (target && person.currentGrantId === null) await s.store.connections.change(person.id, { clientId: target.id });
  const moves = target && person.currentGrantId !== null ? { client: target.name } : {};
  const opened = await s.consents.openForPerson(person.name, { invitation: row.id, ways: WAYS }, { ...moves, ...(way ? { way } : {}) });
  if (!(await s.store.invitations.begin(row.id, opened.id, MAX_STARTS))) throw new Fault('INVITATION_ENDED', { detail: ENDED.used });
  return opened.way === 'device' ? { location: null } : s.consents.start(opened.ticket);
}

const ENDED = {
  expired: 'The link has expired.',
  revoked: 'The link was withdrawn.',
  used: 'The link was used already.',
} as const;

/** Where the application takes over, with a one-time code; null: the invitation names no such address. */
export async function back(s: WithConsents, invitation: string, held: Held): Promise<string | null> {
  const { row } = await find(s, invitation, held);
  if (!(await isOwner(s, row, held)) || row.returnTo === null || row.callerId === null || row.consentId === null) return null;
  const caller = await s.store.callers.byId(row.callerId);
  if (!caller?.redirectUris.includes(row.returnTo))
    throw new Fault('INVITATION_ENDED', { detail: 'The application no longer takes people back at this address.' });
  const code = base64url(s.ports.random.bytes(CODE_BYTES));
  await s.store.invitations.change(row.id, { codeHash: hashOf(code), codeExpiresAt: s.ports.clock.now() + CODE_MS });
  const url = new URL(row.returnTo);
  url.searchParams.set('code', code);
  if (row.callerState !== null) url.searchParams.set('state', row.callerState);
  return url.href;
}

/** The person takes back what they gave. */
export async function leave(s: WithConsents, invitation: string, held: Held): Promise<void> {
  const { row, person, shared } = await find(s, invitation, held);
  if (!(await isOwner(s, row, held))) throw gone();
  if (row.revokedAt !== null) throw new Fault('INVITATION_ENDED', { detail: ENDED.revoked });
  await disconnect(s, shared, person, 'person');
}

/** A new private link for the person, shown once. */
export async function ownLink(s: WithConsents, invitation: string, held: Held): Promise<string> {
  const { row } = await find(s, invitation, held);
  if (!(await isOwner(s, row, held))) throw gone();
  if (row.revokedAt !== null) throw new Fault('INVITATION_ENDED', { detail: ENDED.revoked });
  return urlOf(s, (await makeOwnLink(s, row)).ticket);
}
