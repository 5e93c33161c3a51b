import { timingSafeEqual } from 'node:crypto';
import { type ConsentOutcome, OpenConnection, type OpenedConsent } from '../../api/connections.ts';
import { diagnosis } from '../../core/diagnosis/diagnosis.ts';
import { diagnoseCallback, diagnoseStopPage } from '../../core/diagnosis/way-back.ts';
import { Fault } from '../../core/fault.ts';
import { base64url } from '../../core/identifiers.ts';
import { readCallback } from '../../core/oauth/callback.ts';
import type { Way } from '../../core/oauth/grant-kinds.ts';
import { readPasted } from '../../core/oauth/ways.ts';
import { Secret } from '../../core/secret.ts';
import { type Command, noOperator } from '../asked.ts';
import { beyondRequest } from '../context.ts';
import { connectionDefinition, putBeside, sentAwayOf } from '../grants/index.ts';
import { hashOf } from '../hash.ts';
import { emptyOutcome, refuseUnconfirmed } from '../records/index.ts';
import type { ConnectionRow } from '../store/connections.ts';
import type { ConsentRow, StoredOutcome } from '../store/consents.ts';
import { depart } from './departure.ts';
import type { ConsentRuns } from './devices.ts';
import { type Exchange, exchange } from './exchange.ts';
import { CONSENT_MS, openConsent, type PersonOpening } from './opening.ts';
import { problemOf } from './outcome.ts';
import type { ConsentParts } from './parts.ts';
import { type ConsentParties, outcomeView } from './view.ts';

const EXCHANGE_MS = 2 * 60_000;
/** Whoever came through an invitation has no login here. */
const PERSON = noOperator('person');

/** The cookie that binds one consent to one browser, and its lifetime in seconds. */
export const CONSENT_COOKIE_SECONDS = CONSENT_MS / 1000;
export const consentCookieName = (consentId: string): string => `rk_consent_${consentId.replaceAll('-', '').slice(-12)}`;

/** What the page behind a one-time link says before anything happens. */
export interface ConsentOffer {
  connection: string;
  provider: string;
  openedBy: string;
  /** Who is expected to consent; null: anybody. */
  account: string | null;
  scopes: { name: string; says: string }[];
  warnings: string[];
  /** Epoch ms. */
  expiresAt: number;
}

/** One consent from its one-time link to its outcome (RFC 6749 §4.1, RFC 7636, RFC 8252, RFC 8628, RFC 9207, RFC 9700 §4). */
export interface Consents extends ConsentRuns {
  open(command: Command<'openConnection'>): Promise<OpenedConsent>;
  /** Opens one for a person who came through an invitation: by redirect or by device. `ticket`: for `start`. */
  openForPerson(connection: string, person: PersonOpening, more?: { client?: string; way?: Way }): Promise<OpenedConsent & { ticket: string }>;
  /** What the link is for; it is not used up: a mail scanner may follow it too. @throws {Fault} TICKET_SPENT */
  invitation(ticket: string): Promise<ConsentOffer>;
  /** Spends the ticket; where the browser goes next, and the cookie it must carry. */
  start(ticket: string): Promise<{ consentId: string; cookie: string; location: string }>;
  /** Takes a callback; the exchange goes on behind the answer. Returns the consent whose outcome the browser should see. */
  callback(
    provider: string,
    client: string,
    query: Record<string, unknown>,
    cookie: (name: string) => string | undefined,
  ): Promise<{ consentId: string; invitation: string | null }>;
  /** Takes what came back by hand or by `rk`: an address or a code; bound to the operator who opened it. @throws {Fault} CONSENT_EXPIRED, CONSENT_FOREIGN */
  answer(consentId: string, pasted: string, operator: string): Promise<ConsentOutcome>;
  /** Takes a code that the provider's console printed; the exchange goes on behind the answer. @throws {Fault} CONSENT_EXPIRED */
  giveCode(consentId: string, code: string): Promise<ConsentOutcome>;
  /** What the page means on which the provider stopped. */
  explain(consentId: string, page: string, operator: string): Promise<ConsentOutcome>;
  /** `operator` null: the browser of the consent, which sees this consent's outcome alone. */
  outcome(consentId: string, operator: string | null): Promise<ConsentOutcome>;
  holdsCookie(consentId: string, cookie: string | undefined): Promise<boolean>;
  /** Resolves when no exchange is running. */
  idle(): Promise<void>;
}

/** @param whenDone told of each consent of a person before its outcome is written: again, if that fails */
export function consents(s: ConsentParts, whenDone: (consent: ConsentRow, outcome: StoredOutcome) => Promise<void> = async () => undefined): Consents {
  const running = new Set<Promise<void>>();

  const partiesWith = async (connection: ConnectionRow, clientId: string, own: Record<string, string>): Promise<ConsentParties> => {
    const client = await s.store.clients.byId(clientId);
    const provider = client && (await s.store.providers.byId(client.providerId));
    if (!client || !provider) throw new Fault('NOT_FOUND', { detail: 'The client of this connection was removed.' });
    const { definition, unconfirmed } = await connectionDefinition(s, { provider: provider.name, client: client.name, placeholders: own, apiBaseUrl: null });
    return { connection, client, definition, unconfirmed, placeholders: { ...client.placeholders, ...own } };
  };
  const partiesOf = async (consent: ConsentRow): Promise<ConsentParties> => {
    const connection = await s.store.connections.byId(consent.connectionId);
    if (!connection) throw new Fault('NOT_FOUND', { detail: 'The connection of this consent was removed.' });
    return partiesWith(connection, consent.clientId, consent.facts.placeholders ?? connection.placeholders);
  };
  const finish = async (consent: ConsentRow, phase: 'done' | 'failed', outcome: StoredOutcome): Promise<void> => {
    if (consent.facts.invitation !== undefined) await whenDone(consent, outcome);
    await s.store.consents.change(consent.id, {
      ...{ phase, outcome, finishedAt: s.ports.clock.now() },
      ...{ verifierSealed: null, deviceSealed: null, pollAt: null },
    });
  };
  /** We failed in the middle: it is said, and tokens that came are kept beside what is in use until someone decides. */
  const brokenOff = async (consent: ConsentRow): Promise<StoredOutcome> => {
    const connection = await s.store.connections.byId(consent.connectionId);
    const came = connection !== null && (await s.store.renewals.read(consent.grantId)) !== null;
    const isUsed = connection?.currentGrantId === consent.grantId;
    if (came && !isUsed) await putBeside(s, connection.id, consent.grantId, 'not_verified');
    const words = came
      ? isUsed
        ? {}
        : { remedy: 'The tokens are on standby: use or discard them on the page of the connection. See the log for the cause.' }
      : { title: 'This service failed while it requested the tokens.', remedy: 'Open the connection again. See the log for the cause.' };
    const problem = problemOf(diagnosis('service_failed', { evidence: [], ...words }));
    if (connection) s.history.add({ actor: 'service', kind: 'consent_failed', subject: `connection:${connection.name}`, says: problem.title });
    return { ...emptyOutcome(), problem, decide: came && !isUsed ? 'not_verified' : null };
  };
  /** Moves a consent on, only from the phase that the caller saw. */
  const advance = (id: string, from: ConsentRow['phase'], to: ConsentRow['phase']): Promise<boolean> => s.store.consents.advance(id, from, { phase: to });
  const run: Consents['run'] = (consent, work) => {
    const going = beyondRequest(() => work(() => advance(consent.id, 'exchanging', 'verifying')))
      .then((outcome) => s.keeper.keep('consent outcome', () => finish(consent, outcome.problem ? 'failed' : 'done', outcome)))
      .catch(async (cause: unknown) => {
        s.ports.log.error(
          { event: 'consents.exchange_failed', cause: cause instanceof Error ? cause.message : 'unknown', consent: consent.id },
          'exchange failed on our side',
        );
        await s.keeper.keep('consent outcome', async () => finish(consent, 'failed', await brokenOff(consent)));
      })
      .finally(() => running.delete(going));
    running.add(going);
  };
  /** Runs the exchange behind the answer, and writes down how it went. */
  const runExchange = (consent: ConsentRow, parties: ConsentParties, asks: Exchange['asks']): void =>
    run(consent, (verifying) => exchange(s, { consent, ...parties, asks, verifying }));

  /** @throws {Fault} TICKET_SPENT */
  const offered = async (ticket: string): Promise<ConsentRow> => {
    const consent = await s.store.consents.byTicket(hashOf(ticket));
    if (consent?.phase !== 'offered' || consent.way !== 'redirect' || consent.expiresAt <= s.ports.clock.now())
      throw new Fault('TICKET_SPENT', { remedy: 'Open the connection again in the console, or with `rk connection open`.' });
    return consent;
  };

  const find = async (consentId: string): Promise<ConsentRow> => {
    const consent = await s.store.consents.byId(consentId);
    if (!consent) throw new Fault('NOT_FOUND', { detail: 'There is no such consent.' });
    return consent;
  };

  /** From the way back to the exchange, once: whoever wins the update sends the code. */
  const arrived = async (consent: ConsentRow, parties: ConsentParties, query: Record<string, unknown>): Promise<void> => {
    refuseUnconfirmed(parties.unconfirmed); // the definition may have changed while the person was away
    const answer = readCallback(parties.definition, query);
    const codeHash = answer.kind === 'code' ? hashOf(answer.code.reveal()) : null;
    if (!(await s.store.consents.takeCode(consent.id, 'started', codeHash, EXCHANGE_MS))) return;
    const { client, connection } = parties;
    if (answer.kind !== 'code') {
      const problem = problemOf(diagnoseCallback(answer, sentAwayOf(known(consent, parties))));
      await finish(consent, 'failed', { ...emptyOutcome(), problem });
      s.history.add({
        actor: 'person',
        kind: 'consent_failed',
        subject: `connection:${connection.name}`,
        says: `${problem.title} ${problem.evidence ?? ''}`.trim(),
      });
      return;
    }
    const verifier = consent.verifierSealed
      ? await s.sealer.open({ table: 'consents', row: consent.id, column: 'verifier_sealed' }, consent.verifierSealed)
      : null;
    const redirectUri = consent.facts.redirectUri ?? client.redirectUri;
    runExchange(consent, parties, { grantType: 'authorization_code', code: answer.code, redirectUri, verifier });
  };

  /** @throws {Fault} INPUT_INVALID where the code was given before: it works once, so it is not sent again. */
  const refuseSpent = async (code: string): Promise<void> => {
    const spent = await s.store.consents.byCode(hashOf(code));
    if (spent)
      throw new Fault('INPUT_INVALID', {
        detail: 'This code was given here before; a code works once.',
        places: [{ path: 'code', why: 'used before' }],
        remedy: 'Let the provider make a new one, and paste that.',
      });
  };

  return {
    async open(command) {
      const { ticket: _ticket, ...opened } = await openConsent(s, { partiesWith, runExchange, finish }, command);
      return opened;
    },
    openForPerson: (connection, person, more = {}) =>
      openConsent(
        s,
        { partiesWith, runExchange, finish },
        {
          params: { connection },
          body: OpenConnection.parse({ ...more, end_oldest: true }),
          actor: { operator: PERSON, address: '', device: undefined, agent: null },
        },
        person,
      ),

    async invitation(ticket) {
      const consent = await offered(ticket);
      const { connection, definition } = await partiesOf(consent);
      const scopes = consent.scopes.map((name) => ({ name, says: definition.scopes.find((one) => one.name === name)?.says ?? '' }));
      return {
        connection: connection.name,
        provider: definition.title,
        openedBy: consent.openedBy,
        account: connection.expectedAccount,
        scopes,
        warnings: consent.facts.warnings ?? [],
        expiresAt: consent.expiresAt,
      };
    },

    async start(ticket) {
      const consent = await offered(ticket);
      const parties = await partiesOf(consent);
      refuseUnconfirmed(parties.unconfirmed);
      const cookie = base64url(s.ports.random.bytes(32));
      const { location, set } = depart(s, consent, parties);
      if (!(await s.store.consents.advance(consent.id, 'offered', { ...set, cookieHash: hashOf(cookie) }))) throw new Fault('TICKET_SPENT');
      return { consentId: consent.id, cookie, location };
    },

    async callback(provider, clientName, query, cookie) {
      const state = typeof query.state === 'string' ? query.state : '';
      const consent = state ? await s.store.consents.byState(hashOf(state)) : null;
      if (!consent) throw new Fault('CONSENT_EXPIRED', { detail: 'No consent is waiting for this answer.' });
      const parties = await partiesOf(consent);
      if (parties.definition.name !== provider || parties.client.name !== clientName)
        throw new Fault('CONSENT_EXPIRED', { detail: 'The answer came to the redirect URI of another client.' });
      if (!matches(consent.cookieHash, cookie(consentCookieName(consent.id)))) throw new Fault('CONSENT_FOREIGN');
      const invitation = consent.facts.invitation ?? null;
      if (consent.phase !== 'started') return { consentId: consent.id, invitation }; // a reload shows the outcome; a code is never sent twice
      if (consent.expiresAt <= s.ports.clock.now()) throw new Fault('CONSENT_EXPIRED');
      await arrived(consent, parties, query);
      return { consentId: consent.id, invitation };
    },

    async answer(consentId, pasted, operator) {
      const consent = await find(consentId);
      if (consent.openedBy !== operator)
        throw new Fault('CONSENT_FOREIGN', {
          detail: `It was opened by ${consent.openedBy}.`,
          remedy: 'Let that operator paste it, or open the connection yourself.',
        });
      if (consent.phase !== 'started' || consent.expiresAt <= s.ports.clock.now()) throw new Fault('CONSENT_EXPIRED');
      const parties = await partiesOf(consent);
      const read = readPasted(pasted);
      const wrong = (why: string, remedy: string) => new Fault('INPUT_INVALID', { detail: why, places: [{ path: 'pasted', why }], remedy });
      if (!read)
        throw wrong(
          'There is neither a code nor an error in it.',
          'Paste the whole address from the browser\u2019s address bar, as it stands after the provider sent it back.',
        );
      if (read.whole && (read.query.state === undefined || !matches(consent.stateHash, read.query.state)))
        throw wrong('The address belongs to another consent: its state is not the one that was sent.', 'Paste the address that this consent led to.');
      if (!read.whole && (consent.verifierSealed === null || parties.definition.server.authorization_response_iss_parameter_supported))
        throw wrong('A code alone is not enough here: the rest of the address verifies that it belongs to this consent.', 'Paste the whole address.');
      if (read.query.code) await refuseSpent(read.query.code);
      await arrived(read.spaced ? { ...consent, facts: { ...consent.facts, spaced: true } } : consent, parties, read.query);
      return this.outcome(consentId, operator);
    },

    async giveCode(consentId, code) {
      const consent = await find(consentId);
      const parties = await partiesOf(consent);
      if (consent.way !== 'printed') throw new Fault('CONSENT_EXPIRED', { detail: 'This consent does not wait for a printed code.' });
      if (consent.expiresAt <= s.ports.clock.now()) throw new Fault('CONSENT_EXPIRED');
      refuseUnconfirmed(parties.unconfirmed);
      const bare = code.replace(/\s+/g, '');
      await refuseSpent(bare);
      // A code is never sent twice: the one request that wins this update sends it.
      const won = await s.store.consents.takeCode(consent.id, 'offered', hashOf(bare), EXCHANGE_MS);
      const spaced = bare !== code ? { ...consent, facts: { ...consent.facts, spaced: true } } : consent;
      if (won) runExchange(spaced, parties, { grantType: 'authorization_code', code: new Secret(bare), redirectUri: null, verifier: null });
      return this.outcome(consentId, consent.openedBy);
    },

    async explain(consentId, page, operator) {
      const consent = await find(consentId);
      const parties = await partiesOf(consent);
      const pageDiagnosis = diagnoseStopPage(page, sentAwayOf(known(consent, parties)));
      await s.store.consents.change(consent.id, { facts: { ...consent.facts, pageDiagnosis } });
      s.history.add({
        actor: operator,
        kind: 'page_pasted',
        subject: `connection:${parties.connection.name}`,
        says: `${parties.definition.title} stopped on a page of its own: ${pageDiagnosis.title} ${pageDiagnosis.evidence[0] ?? ''}`.slice(0, 600),
      });
      return this.outcome(consentId, operator);
    },

    async outcome(consentId, operator) {
      const consent = await find(consentId);
      return outcomeView(s, consent, await partiesOf(consent), operator);
    },

    async holdsCookie(consentId, cookie) {
      const consent = await s.store.consents.byId(consentId);
      return matches(consent?.cookieHash ?? null, cookie);
    },

    parties: partiesOf,
    run,
    async idle() {
      while (running.size > 0) await Promise.all(running);
    },
  };
}

const known = (consent: ConsentRow, parties: ConsentParties) => ({
  client: parties.client,
  definition: parties.definition,
  placeholders: parties.placeholders,
  redirectUri: consent.facts.redirectUri ?? parties.client.redirectUri,
  scopes: consent.scopes,
});

const matches = (hash: Buffer | null, text: string | undefined): boolean => hash !== null && text !== undefined && timingSafeEqual(hash, hashOf(text));
