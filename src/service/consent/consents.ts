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
import { clientPage } from '../registry/client-guide.ts';
import { missingOf, refuseUnconfirmed, registeringOf } from '../registry/client-record.ts';
import { connectionDefinition } from '../registry/connection-definition.ts';
import { hashText } from '../registry/operators.ts';
import { readyOf } from '../registry/ready.ts';
import { iso, isoOrNull, type Services } from '../registry/services.ts';
import { idBytes } from '../store/database.ts';
import type { Row } from '../store/tables.ts';
import { type Exchange, exchange } from './exchange.ts';
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
  /** Takes a code that the provider's console printed; the exchange goes on behind the answer. @throws {Fault} CONSENT_EXPIRED */
  giveCode(consentId: string, code: string): Promise<ConsentOutcome>;
  outcome(consentId: string): Promise<ConsentOutcome>;
  holdsCookie(consentId: string, cookie: string | undefined): Promise<boolean>;
  /** Resolves when no exchange is running. */
  idle(): Promise<void>;
}

export function consents(s: Services): Consents {
  const running = new Set<Promise<void>>();

  const partiesOf = async (connection: Row<'connections'>): Promise<{ client: Row<'clients'>; definition: ProviderDefinition; unconfirmed: string[] }> => {
    const client = await s.tables.clients.find({ id: connection.clientId });
    const provider = client && (await s.tables.providers.find({ id: client.providerId }));
    if (!client || !provider) throw new Fault('NOT_FOUND', { detail: 'The client of this connection was removed.' });
    const placeholders = (connection.placeholders ?? {}) as Record<string, string>;
    const { definition, unconfirmed } = await connectionDefinition(s, { provider: provider.name, client: client.name, placeholders, apiBaseUrl: null });
    return { client, definition, unconfirmed };
  };
  const clientOf = async (
    consent: ConsentRow,
  ): Promise<{ client: Row<'clients'>; definition: ProviderDefinition; connection: Row<'connections'>; unconfirmed: string[] }> => {
    const connection = await s.tables.connections.find({ id: consent.connectionId });
    if (!connection) throw new Fault('NOT_FOUND', { detail: 'The connection of this consent was removed.' });
    return { ...(await partiesOf(connection)), connection };
  };
  /** Runs the exchange behind the answer, and writes down how it went. */
  const run = (consent: ConsentRow, parties: Awaited<ReturnType<typeof clientOf>>, asks: Exchange['asks']): void => {
    const { client, definition, connection } = parties;
    const work = exchange(s, { consent, client, definition, connection, asks, proving: () => advance(consent.id, 'exchanging', 'proving') })
      .then((outcome) => s.keeper.keep('consent outcome', () => finish(consent, outcome.problem ? 'failed' : 'done', outcome)))
      .catch((cause: unknown) =>
        s.ports.log.error({ cause: cause instanceof Error ? cause.message : 'unknown', consent: consent.id }, 'exchange failed on our side'),
      )
      .finally(() => running.delete(work));
    running.add(work);
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
      const parties = await partiesOf(connection);
      const { client, definition } = parties;
      const secrets = await s.tables.clientSecrets.list({ clientId: client.id });
      const missing = missingOf(client, definition, secrets, s.ports.clock.now());
      if (missing.length > 0) throw new Fault('CLIENT_INCOMPLETE', { detail: `Missing: ${missing.join(' and ')}.` });
      if (client.stage === 'retired') throw new Fault('CLIENT_INCOMPLETE', { detail: 'The client was retired.', remedy: 'Use another client.' });
      refuseUnconfirmed(parties.unconfirmed);
      const forItself = connection.grantType === 'client_credentials';
      const ready = readyOf(
        client,
        definition,
        secrets,
        {
          ...connection,
          scopes: connection.scopes as string[],
          operations: (connection.operations as string[] | null) ?? [],
        },
        s.ports.clock.now(),
      );
      const scopes = [...new Set([...(connection.scopes as string[]), ...(forItself ? [] : (definition.identity?.needs ?? []))])];
      const ticket = base64url(s.ports.random.bytes(24));
      const id = recordId(s.ports);
      const expiresAt = s.ports.clock.now() + CONSENT_MS;
      const row: ConsentRow = {
        id,
        ticketHash: hashText(ticket),
        stateHash: null,
        cookieHash: null,
        clientId: connection.clientId,
        connectionId: connection.id,
        grantId: recordId(s.ports),
        verifierSealed: null,
        scopes,
        phase: forItself ? 'exchanging' : 'offered',
        openedBy: operator,
        expiresAt,
        finishedAt: null,
        outcome: emptyOutcome(),
      };
      await s.tables.consents.insert(row);
      await s.database.write(`DELETE FROM consents WHERE expires_at < UTC_TIMESTAMP(3) - INTERVAL ${KEPT_DAYS} DAY LIMIT 100`);
      if (forItself) {
        run(row, { ...parties, connection }, { grantType: 'client_credentials', scopes });
        return { id, start_url: `${s.settings.publicUrl}/#/consents/${id}`, by_itself: true, expires_at: iso(expiresAt), warnings: [], ready };
      }
      const warnings = await costs(s, connection, client, definition);
      const startUrl = isPrinted(client) ? `${s.settings.publicUrl}/#/consents/${id}` : `${s.settings.publicUrl}/consent/start/${ticket}`;
      return { id, start_url: startUrl, by_itself: false, expires_at: iso(expiresAt), warnings, ready };
    },

    async start(ticket) {
      const consent = await s.tables.consents.find({ ticketHash: hashText(ticket) });
      if (consent?.phase !== 'offered' || consent.expiresAt <= s.ports.clock.now())
        throw new Fault('TICKET_SPENT', { remedy: 'Open the connection again in the console, or with `rk connection open`.' });
      const { client, definition, unconfirmed } = await clientOf(consent);
      refuseUnconfirmed(unconfirmed);
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
      const parties = await clientOf(consent);
      const { client, definition, connection } = parties;
      if (definition.name !== provider || client.name !== clientName)
        throw new Fault('CONSENT_EXPIRED', { detail: 'The answer came to the redirect URI of another client.' });
      if (!matches(consent.cookieHash, cookie(consentCookieName(consent.id)))) throw new Fault('CONSENT_FOREIGN');
      if (consent.phase !== 'started') return { consentId: consent.id }; // a reload shows the outcome; a code is never sent twice
      if (consent.expiresAt <= s.ports.clock.now()) throw new Fault('CONSENT_EXPIRED');
      // The definition may have changed while the person was away: the code and the secret go nowhere that nobody confirmed.
      refuseUnconfirmed(parties.unconfirmed);
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
      run(consent, parties, { grantType: 'authorization_code', code: answer.code, redirectUri: client.redirectUri, verifier });
      return { consentId: consent.id };
    },

    async giveCode(consentId, code) {
      const consent = await s.tables.consents.find({ id: consentId });
      if (!consent) throw new Fault('NOT_FOUND', { detail: 'There is no such consent.' });
      const parties = await clientOf(consent);
      if (!isPrinted(parties.client)) throw new Fault('CONSENT_EXPIRED', { detail: 'This consent does not wait for a printed code.' });
      if (consent.expiresAt <= s.ports.clock.now()) throw new Fault('CONSENT_EXPIRED');
      refuseUnconfirmed(parties.unconfirmed);
      // A code is never sent twice: the one request that wins this update sends it.
      const won = await s.database.write(
        `UPDATE consents SET phase = 'exchanging', expires_at = UTC_TIMESTAMP(3) + INTERVAL ${EXCHANGE_MS * 1000} MICROSECOND WHERE id = $1 AND phase = 'offered'`,
        [idBytes(consent.id)],
      );
      if (won > 0) run(consent, parties, { grantType: 'authorization_code', code: new Secret(code), redirectUri: null, verifier: null });
      return this.outcome(consentId);
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
        by_itself: connection.grantType === 'client_credentials',
        rehearsal: client.rehearsalPort !== null,
        wants_code: isPrinted(client) && consent.phase === 'offered' ? printing(client, definition) : null,
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

/** A client whose people agree by a code that the provider's console prints: nobody is sent anywhere. */
const isPrinted = (client: Pick<Row<'clients'>, 'type'>): boolean => client.type === 'printed_code';

function printing(client: Row<'clients'>, definition: ProviderDefinition): NonNullable<ConsentOutcome['wants_code']> {
  const { registration } = definition;
  return {
    page: clientPage(client, definition, registeringOf(client)) ?? registration.page ?? null,
    seconds: registration.printed_code_seconds ?? 240,
    called: registration.parts.find((one) => one.part === 'printed_code')?.title ?? 'Print a code',
  };
}

/** What a consent may cost, said before anybody consents. */
async function costs(s: Services, connection: Row<'connections'>, client: Row<'clients'>, definition: ProviderDefinition): Promise<string[]> {
  const warnings: string[] = [];
  const most = definition.dialect.refresh_tokens_most;
  if (most !== undefined) {
    const [count] = await s.database.select<{ n: number | bigint; oldest: string | null }>(
      `SELECT COUNT(*) AS n, MIN(CONCAT(g.consented_at, ' ', k.name)) AS oldest FROM connections k JOIN grants g ON g.id = k.current_grant_id JOIN renewals r ON r.grant_id = g.id
       WHERE k.client_id = $1 AND r.ended = 0 AND r.next_at IS NOT NULL AND ($2 IS NULL OR g.account_label = $3 OR g.account_id = $4)`,
      [idBytes(client.id), connection.expectedAccount, connection.expectedAccount, connection.expectedAccount],
    );
    const held = Number(count?.n ?? 0);
    if (held >= most)
      warnings.push(
        `${definition.title} keeps ${most} refresh tokens for each person and client, and ${held} are held here${connection.expectedAccount ? ` for ${connection.expectedAccount}` : ''}: if the same person consents once more, the oldest ends (${count?.oldest?.split(' ').at(-1) ?? ''}).`,
      );
  }
  const reach = definition.reach.find((one) => one.reach === client.reach);
  if (reach) warnings.push(reach.says);
  return warnings;
}

const matches = (hash: Buffer | null, cookie: string | undefined): boolean => hash !== null && cookie !== undefined && timingSafeEqual(hash, hashText(cookie));
