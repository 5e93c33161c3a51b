import type { ConsentOutcome, OpenedConsent } from '../../api/connections.ts';
import type { Way } from '../../core/oauth/grant-kinds.ts';
import type { Command } from '../operation-call.ts';
import type { ConsentRuns } from './devices.ts';
import type { PersonOpening } from './opening.ts';

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
