import { diagnoseCallback, diagnoseStopPage } from '../../core/diagnosis/callback.ts';
import { Fault } from '../../core/fault.ts';
import { readCallback } from '../../core/oauth/callback.ts';
import { readPasted } from '../../core/oauth/ways.ts';
import { Secret } from '../../core/secret.ts';
import { sentAwayOf } from '../grants/index.ts';
import { hashOf, isHashOf } from '../hash.ts';
import { emptyOutcome, refuseUnconfirmed } from '../records/index.ts';
import type { ConsentRow } from '../store/consents.ts';
import type { Parties } from './consent-context.ts';
import type { Consents } from './consents-interface.ts';
import { consentCookieName } from './cookie.ts';
import { INVITATION_USED, problemOf } from './outcome.ts';
import type { ConsentParts } from './parts.ts';
import type { Runs } from './runs.ts';
import { type ConsentParties, outcomeView } from './view.ts';

const EXCHANGE_MS = 2 * 60_000;

/** What comes back from the provider, by which way it may: the browser, a pasted address, a printed code, or a page that it stopped on. */
export function wayBack(
  s: ConsentParts,
  { parties: all, runs }: { parties: Parties; runs: Runs },
): Pick<Consents, 'callback' | 'answer' | 'giveCode' | 'explain'> {
  const outcomeFor = async (consentId: string, operator: string) => {
    const consent = await all.find(consentId);
    return outcomeView(s, consent, await all.of(consent), operator);
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
      await runs.finish(consent, 'failed', { ...emptyOutcome(), problem });
      s.history.add({
        actor: 'person',
        kind: 'consent_failed',
        subject: `connection:${connection.name}`,
        says: `${problem.title} ${problem.evidence ?? ''}`.trim(),
      });
      return;
    }
    // A use is taken before the code is: of two consents that end at once, one connects.
    if (consent.facts.invitation !== undefined && !(await s.store.invitations.take(consent.facts.invitation, consent.id)))
      return runs.finish(consent, 'failed', { ...emptyOutcome(), problem: INVITATION_USED });
    const verifier = consent.verifierSealed
      ? await s.sealer.open({ table: 'consents', row: consent.id, column: 'verifier_sealed' }, consent.verifierSealed)
      : null;
    const redirectUri = consent.facts.redirectUri ?? client.redirectUri;
    runs.exchange(consent, parties, { grantType: 'authorization_code', code: answer.code, redirectUri, verifier });
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
    async callback(provider, clientName, query, cookie) {
      const state = typeof query.state === 'string' ? query.state : '';
      const consent = state ? await s.store.consents.byState(hashOf(state)) : null;
      if (!consent) throw new Fault('CONSENT_EXPIRED', { detail: 'No consent is waiting for this answer.' });
      const parties = await all.of(consent);
      if (parties.definition.name !== provider || parties.client.name !== clientName)
        throw new Fault('CONSENT_EXPIRED', { detail: 'The answer came to the redirect URI of another client.' });
      if (!isHashOf(consent.cookieHash, cookie(consentCookieName(consent.id)))) throw new Fault('CONSENT_FOREIGN');
      const invitation = consent.facts.invitation ?? null;
      if (consent.phase !== 'started') return { consentId: consent.id, invitation }; // a reload shows the outcome; a code is never sent twice
      if (consent.expiresAt <= s.ports.clock.now()) throw new Fault('CONSENT_EXPIRED');
      await arrived(consent, parties, query);
      return { consentId: consent.id, invitation };
    },

    async answer(consentId, pasted, operator) {
      const consent = await all.find(consentId);
      if (consent.openedBy !== operator)
        throw new Fault('CONSENT_FOREIGN', {
          detail: `It was opened by ${consent.openedBy}.`,
          remedy: 'Let that operator paste it, or open the connection yourself.',
        });
      if (consent.phase !== 'started' || consent.expiresAt <= s.ports.clock.now()) throw new Fault('CONSENT_EXPIRED');
      const parties = await all.of(consent);
      const read = readPasted(pasted);
      const wrong = (why: string, remedy: string) => new Fault('INPUT_INVALID', { detail: why, places: [{ path: 'pasted', why }], remedy });
      if (!read)
        throw wrong(
          'There is neither a code nor an error in it.',
          'Paste the whole address from the browser\u2019s address bar, as it stands after the provider sent it back.',
        );
      if (read.whole && (read.query.state === undefined || !isHashOf(consent.stateHash, read.query.state)))
        throw wrong('The address belongs to another consent: its state is not the one that was sent.', 'Paste the address that this consent led to.');
      if (!read.whole && (consent.verifierSealed === null || parties.definition.server.authorization_response_iss_parameter_supported))
        throw wrong('A code alone is not enough here: the rest of the address verifies that it belongs to this consent.', 'Paste the whole address.');
      if (read.query.code) await refuseSpent(read.query.code);
      await arrived(read.spaced ? { ...consent, facts: { ...consent.facts, spaced: true } } : consent, parties, read.query);
      return outcomeFor(consentId, operator);
    },

    async giveCode(consentId, code) {
      const consent = await all.find(consentId);
      const parties = await all.of(consent);
      if (consent.way !== 'printed') throw new Fault('CONSENT_EXPIRED', { detail: 'This consent does not wait for a printed code.' });
      if (consent.expiresAt <= s.ports.clock.now()) throw new Fault('CONSENT_EXPIRED');
      refuseUnconfirmed(parties.unconfirmed);
      const bare = code.replace(/\s+/g, '');
      await refuseSpent(bare);
      // A code is never sent twice: the one request that wins this update sends it.
      const won = await s.store.consents.takeCode(consent.id, 'offered', hashOf(bare), EXCHANGE_MS);
      const spaced = bare !== code ? { ...consent, facts: { ...consent.facts, spaced: true } } : consent;
      if (won) runs.exchange(spaced, parties, { grantType: 'authorization_code', code: new Secret(bare), redirectUri: null, verifier: null });
      return outcomeFor(consentId, consent.openedBy);
    },

    async explain(consentId, page, operator) {
      const consent = await all.find(consentId);
      const parties = await all.of(consent);
      const pageDiagnosis = diagnoseStopPage(page, sentAwayOf(known(consent, parties)));
      await s.store.consents.change(consent.id, { facts: { ...consent.facts, pageDiagnosis } });
      s.history.add({
        actor: operator,
        kind: 'page_pasted',
        subject: `connection:${parties.connection.name}`,
        says: `${parties.definition.title} stopped on a page of its own: ${pageDiagnosis.title} ${pageDiagnosis.evidence[0] ?? ''}`.slice(0, 600),
      });
      return outcomeFor(consentId, operator);
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
