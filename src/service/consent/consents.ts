import { OpenConnection } from '../../api/connections.ts';
import { Fault } from '../../core/fault.ts';
import { base64url } from '../../core/identifiers.ts';
import { hashOf, isHashOf } from '../hash.ts';
import { noOperator } from '../operation-call.ts';
import { refuseUnconfirmed } from '../records/index.ts';
import type { ConsentRow, StoredOutcome } from '../store/consents.ts';
import { buildAuthorizationRedirect } from './authorization-redirect.ts';
import { wayBack } from './callback.ts';
import { consentParties } from './consent-context.ts';
import type { Consents } from './consents-interface.ts';
import { openConsent } from './opening.ts';
import type { ConsentParts } from './parts.ts';
import { consentRuns } from './runs.ts';
import { outcomeView } from './view.ts';

/** Whoever came through an invitation has no login here. */
const PERSON = noOperator('person');

/** @param whenDone told of each consent of a person before its outcome is written: again, if that fails */
export function consents(s: ConsentParts, whenDone: (consent: ConsentRow, outcome: StoredOutcome) => Promise<void> = async () => undefined): Consents {
  const all = consentParties(s);
  const runs = consentRuns(s, whenDone);
  const uses = { parties: all, runs };

  /** @throws {Fault} TICKET_SPENT */
  const offered = async (ticket: string): Promise<ConsentRow> => {
    const consent = await s.store.consents.byTicket(hashOf(ticket));
    if (consent?.phase !== 'offered' || consent.way !== 'redirect' || consent.expiresAt <= s.ports.clock.now())
      throw new Fault('TICKET_SPENT', { remedy: 'Open the connection again in the console, or with `rk connection open`.' });
    return consent;
  };

  return {
    ...wayBack(s, uses),
    async open(command) {
      const { ticket: _ticket, ...opened } = await openConsent(s, uses, command);
      return opened;
    },
    openForPerson: (connection, person, more = {}) =>
      openConsent(
        s,
        uses,
        {
          params: { connection },
          body: OpenConnection.parse({ ...more, end_oldest: true }),
          actor: { operator: PERSON, address: '', device: undefined, agent: null },
        },
        person,
      ),

    async invitation(ticket) {
      const consent = await offered(ticket);
      const { connection, definition } = await all.of(consent);
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
      const parties = await all.of(consent);
      refuseUnconfirmed(parties.unconfirmed);
      const cookie = base64url(s.ports.random.bytes(32));
      const { location, set } = buildAuthorizationRedirect(s, consent, parties);
      if (!(await s.store.consents.advance(consent.id, 'offered', { ...set, cookieHash: hashOf(cookie) }))) throw new Fault('TICKET_SPENT');
      return { consentId: consent.id, cookie, location };
    },

    async outcome(consentId, operator) {
      const consent = await all.find(consentId);
      return outcomeView(s, consent, await all.of(consent), operator);
    },

    async holdsCookie(consentId, cookie) {
      const consent = await s.store.consents.byId(consentId);
      return isHashOf(consent?.cookieHash ?? null, cookie);
    },

    parties: all.of,
    run: runs.run,
    idle: runs.idle,
  };
}
