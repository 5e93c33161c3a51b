import { timingSafeEqual } from 'node:crypto';
import type { ConsentOutcome, OpenedConsent } from '../../api/connections.ts';
import { Fault } from '../../core/fault.ts';
import { base64url } from '../../core/identifiers.ts';
import { authorizationUrl } from '../../core/oauth/authorization-request.ts';
import { readCallback } from '../../core/oauth/callback.ts';
import { codeVerifier } from '../../core/oauth/pkce.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { Secret } from '../../core/secret.ts';
import { recordId } from '../ports.ts';
import { definitionFor, missingOf } from '../registry/clients.ts';
import { hashText } from '../registry/operators.ts';
import { findProvider } from '../registry/providers.ts';
import { iso, isoOrNull, type Services } from '../registry/services.ts';
import { idBytes } from '../store/database.ts';
import type { Row } from '../store/tables.ts';
import { exchange } from './exchange.ts';
import { type ConsentProblem, callbackProblem, emptyOutcome, STALE_PROBLEMS, type StoredOutcome } from './outcome.ts';

type ConsentRow = Row<'consents'>;

const CONSENT_MS = 30 * 60_000;
const EXCHANGE_MS = 2 * 60_000;
const KEPT_DAYS = 30;

/** The cookie that binds one consent to one browser, and its lifetime in seconds. */
export const CONSENT_COOKIE_SECONDS = CONSENT_MS / 1000;
export const consentCookieName = (consentId: string): string => `rk_consent_${consentId.replaceAll('-', '').slice(-12)}`;

/** One consent from its one-time link to its outcome (RFC 6749 §4.1, RFC 7636, RFC 9207, RFC 9700 §4). */
export interface Consents {
  open(connectionName: string, operator: string): Promise<OpenedConsent>;
  /** Spends the ticket; where the browser goes next, and the cookie it must carry. */
  start(ticket: string): Promise<{ consentId: string; cookie: string; location: string }>;
  /** Takes a callback; the exchange goes on behind the answer. Returns the consent whose outcome the browser should see. */
  callback(provider: string, client: string, query: Record<string, unknown>, cookie: (name: string) => string | undefined): Promise<{ consentId: string }>;
  outcome(consentId: string): Promise<ConsentOutcome>;
  holdsCookie(consentId: string, cookie: string | undefined): Promise<boolean>;
  /** Resolves when no exchange is running. */
  idle(): Promise<void>;
}

export function consents(s: Services): Consents {
  const running = new Set<Promise<void>>();

  const clientOf = async (consent: ConsentRow): Promise<{ client: Row<'clients'>; definition: ProviderDefinition; connection: Row<'connections'> }> => {
    const [client, connection] = await Promise.all([s.tables.clients.find({ id: consent.clientId }), s.tables.connections.find({ id: consent.connectionId })]);
    if (!client || !connection) throw new Fault('NOT_FOUND', { detail: 'The client or connection of this consent was removed.' });
    const provider = await s.tables.providers.find({ id: client.providerId });
    const { definition } = await findProvider(s, provider?.name ?? '');
    return { client, definition: definitionFor(definition, client), connection };
  };
  /** Moves a consent on, only from the phase that the caller saw. */
  const advance = (id: string, from: string, to: string): Promise<number> => s.tables.consents.change({ id, phase: from }, { phase: to });

  const finish = async (consent: ConsentRow, phase: 'done' | 'failed', outcome: StoredOutcome): Promise<void> => {
    await s.tables.consents.change({ id: consent.id }, { phase, outcome, finishedAt: s.ports.clock.now(), verifierSealed: null });
  };

  return {
    async open(connectionName, operator) {
      const connection = await s.tables.connections.find({ name: connectionName });
      if (!connection) throw new Fault('NOT_FOUND', { detail: `No connection is called ${connectionName}.` });
      const client = await s.tables.clients.find({ id: connection.clientId });
      const secret = client && (await s.tables.clientSecrets.find({ clientId: client.id, state: 'active' }));
      const missing = client ? missingOf(client, secret !== null) : ['the client'];
      if (missing.length > 0) throw new Fault('CLIENT_INCOMPLETE', { detail: `Missing: ${missing.join(' and ')}.` });
      const ticket = base64url(s.ports.random.bytes(24));
      const id = recordId(s.ports);
      const expiresAt = s.ports.clock.now() + CONSENT_MS;
      await s.tables.consents.insert({
        id,
        ticketHash: hashText(ticket),
        stateHash: null,
        cookieHash: null,
        clientId: connection.clientId,
        connectionId: connection.id,
        grantId: recordId(s.ports),
        verifierSealed: null,
        scopes: connection.scopes,
        phase: 'offered',
        openedBy: operator,
        expiresAt,
        finishedAt: null,
        outcome: emptyOutcome(),
      });
      await s.database.write(`DELETE FROM consents WHERE expires_at < UTC_TIMESTAMP(3) - INTERVAL ${KEPT_DAYS} DAY LIMIT 100`);
      return { id, start_url: `${s.settings.publicUrl}/consent/start/${ticket}`, expires_at: iso(expiresAt) };
    },

    async start(ticket) {
      const consent = await s.tables.consents.find({ ticketHash: hashText(ticket) });
      if (consent?.phase !== 'offered' || consent.expiresAt <= s.ports.clock.now())
        throw new Fault('TICKET_SPENT', { remedy: 'Open the connection again in the console, or with `rk connection open`.' });
      const { client, definition } = await clientOf(consent);
      const [state, cookie] = [base64url(s.ports.random.bytes(32)), base64url(s.ports.random.bytes(32))];
      const verifier = definition.dialect.pkce === 'S256' ? new Secret(codeVerifier(s.ports.random.bytes(32))) : null;
      const set = {
        phase: 'started',
        stateHash: hashText(state),
        cookieHash: hashText(cookie),
        verifierSealed: verifier ? s.sealer.seal({ table: 'consents', row: consent.id, column: 'verifier_sealed' }, verifier) : null,
      };
      if ((await s.tables.consents.change({ id: consent.id, phase: 'offered' }, set)) === 0) throw new Fault('TICKET_SPENT');
      const location = authorizationUrl(definition, {
        clientId: client.clientId ?? '',
        redirectUri: client.redirectUri,
        scopes: consent.scopes as string[],
        state,
        verifier: verifier?.reveal() ?? null,
      });
      return { consentId: consent.id, cookie, location };
    },

    async callback(provider, clientName, query, cookie) {
      const state = typeof query.state === 'string' ? query.state : '';
      const consent = state ? await s.tables.consents.find({ stateHash: hashText(state) }) : null;
      if (!consent) throw new Fault('CONSENT_EXPIRED', { detail: 'No consent is waiting for this answer.' });
      const { client, definition, connection } = await clientOf(consent);
      if (definition.name !== provider || client.name !== clientName)
        throw new Fault('CONSENT_EXPIRED', { detail: 'The answer came to the redirect URI of another client.' });
      if (!matches(consent.cookieHash, cookie(consentCookieName(consent.id)))) throw new Fault('CONSENT_FOREIGN');
      if (consent.phase !== 'started') return { consentId: consent.id }; // a reload shows the outcome; a code is never sent twice
      if (consent.expiresAt <= s.ports.clock.now()) throw new Fault('CONSENT_EXPIRED');
      // `state` is used up before the exchange, by the one request that wins this update.
      const won = await s.database.write(
        `UPDATE consents SET phase = 'exchanging', expires_at = UTC_TIMESTAMP(3) + INTERVAL ${EXCHANGE_MS * 1000} MICROSECOND WHERE id = $1 AND phase = 'started'`,
        [idBytes(consent.id)],
      );
      if (won === 0) return { consentId: consent.id };
      const answer = readCallback(definition, query);
      if (answer.kind !== 'code') {
        const problem: ConsentProblem = callbackProblem(answer, definition, consent.scopes as string[]);
        await finish(consent, 'failed', { ...emptyOutcome(), problem });
        s.history.add({
          actor: 'person',
          kind: 'consent_failed',
          subject: `connection:${connection.name}`,
          says: `${problem.title} ${problem.evidence ?? ''}`.trim(),
        });
        return { consentId: consent.id };
      }
      const verifier = consent.verifierSealed
        ? await s.sealer.open({ table: 'consents', row: consent.id, column: 'verifier_sealed' }, consent.verifierSealed)
        : null;
      const work = exchange(s, {
        consent,
        client,
        definition,
        connection,
        code: answer.code,
        verifier,
        proving: () => advance(consent.id, 'exchanging', 'proving'),
      })
        .then((outcome) => s.keeper.keep('consent outcome', () => finish(consent, outcome.problem ? 'failed' : 'done', outcome)))
        .catch((cause: unknown) =>
          s.ports.log.error({ cause: cause instanceof Error ? cause.message : 'unknown', consent: consent.id }, 'exchange failed on our side'),
        )
        .finally(() => running.delete(work));
      running.add(work);
      return { consentId: consent.id };
    },

    async outcome(consentId) {
      const consent = await s.tables.consents.find({ id: consentId });
      if (!consent) throw new Fault('NOT_FOUND', { detail: 'There is no such consent.' });
      const { client, definition, connection } = await clientOf(consent);
      const stale = consent.finishedAt === null && consent.expiresAt <= s.ports.clock.now() ? (STALE_PROBLEMS[consent.phase] ?? null) : null;
      const outcome = consent.outcome as StoredOutcome;
      return {
        ...outcome,
        id: consent.id,
        connection: connection.name,
        provider: definition.name,
        provider_title: definition.title,
        client: client.name,
        phase: stale ? 'failed' : (consent.phase as ConsentOutcome['phase']),
        expires_at: iso(consent.expiresAt),
        redirect_uri: client.redirectUri,
        finished_at: isoOrNull(consent.finishedAt),
        problem: stale ?? outcome.problem,
      };
    },

    async holdsCookie(consentId, cookie) {
      const consent = await s.tables.consents.find({ id: consentId });
      return matches(consent?.cookieHash ?? null, cookie);
    },

    async idle() {
      while (running.size > 0) await Promise.all(running);
    },
  };
}

const matches = (hash: Buffer | null, cookie: string | undefined): boolean => hash !== null && cookie !== undefined && timingSafeEqual(hash, hashText(cookie));
