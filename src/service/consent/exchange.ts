import { diagnoseTokenRequest } from '../../core/diagnosis/token-request.ts';
import { base64url } from '../../core/identifiers.ts';
import type { ClientCredentials } from '../../core/oauth/client-authentication.ts';
import { readTokenOutcome, type TokenOutcome } from '../../core/oauth/token-answer.ts';
import { type TokenRequest, tokenRequest } from '../../core/oauth/token-request.ts';
import type { WireOutcome } from '../../core/oauth/wire.ts';
import { wireRecord } from '../../core/oauth/wire-record.ts';
import { probeOf } from '../../core/provider/api.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { requestDeadlineMs } from '../../core/renewal/plan.ts';
import { compareScopes } from '../../core/scopes/compare.ts';
import { diagnosisInput, insertGrant } from '../grants/index.ts';
import { emptyOutcome } from '../records/index.ts';
import { evidenceText, type SpilledAnswer, tokenLife } from '../renewal/index.ts';
import type { ClientRow } from '../store/clients.ts';
import type { ConnectionRow } from '../store/connections.ts';
import type { ConsentRow, StoredOutcome } from '../store/consents.ts';
import { problemOf } from './outcome.ts';
import type { ConsentParts } from './parts.ts';
import { verifyTokens } from './verify.ts';

export interface Exchange {
  consent: ConsentRow;
  client: ClientRow;
  definition: ProviderDefinition;
  connection: ConnectionRow;
  /** What is exchanged for tokens: a code, or nothing but the client's own credentials. */
  asks: Exclude<TokenRequest, { grantType: 'refresh_token' }>;
  /** Values of the client and the connection together, and those of the connection alone. */
  placeholders: Record<string, string>;
  /** Called once the tokens are safe. */
  verifying(): Promise<unknown>;
}

/** One token request of a consent, and what came back. */
export interface Asking {
  credentials: ClientCredentials;
  sentAt: number;
  seen: WireOutcome;
  answer: TokenOutcome;
}

export async function ask(s: ConsentParts, x: Exchange, attempt = 0): Promise<Asking | null> {
  const [credentials] = (await s.contexts.credentialsOf(x.client.id, x.definition)).inOrder;
  if (!credentials) return null;
  const sentAt = s.ports.clock.now();
  const once = { now: sentAt, deadlineMs: requestDeadlineMs(s.settings.limits, null), jti: base64url(s.ports.random.bytes(16)) };
  const request = await tokenRequest(x.definition, credentials, x.asks, once);
  const seen = await s.ports.send({ ...request, freshSocket: true });
  const answer = readTokenOutcome(seen, x.definition.dialect);
  s.wireLog.add(x.consent.grantId, attempt, answer.kind, () => wireRecord(request, seen));
  return { credentials, sentAt, seen, answer };
}

/** Code to tokens to a verified grant. The tokens are saved before anything else is done with them. */
export async function exchange(s: ConsentParts, x: Exchange): Promise<StoredOutcome> {
  const asking = await ask(s, x);
  return asking ? settle(s, x, asking) : incomplete();
}

export const incomplete = (): StoredOutcome => ({
  ...emptyOutcome(),
  problem: {
    title: 'The client is not complete any more.',
    evidence: null,
    side: 'client',
    remedy: 'Enter its id and secret, then open the connection again.',
  },
});

/** From the answer to the outcome: a diagnosis, or tokens that are kept and then verified. */
export async function settle(s: ConsentParts, x: Exchange, { credentials, sentAt, seen, answer }: Asking): Promise<StoredOutcome> {
  const subject = `connection:${x.connection.name}`;
  const client = { id: x.client.id, name: `${x.definition.name}/${x.client.name}` };
  if (answer.kind !== 'tokens') {
    const evidence = evidenceText(answer.evidence);
    const problem = problemOf(diagnoseTokenRequest(await askedAbout(s, x, { credentials, seen, sentAt }), answer, evidence));
    if (answer.kind === 'client_refused' && answer.evidence.error !== 'unauthorized_client')
      await clientRefused(s, { client, used: credentials, definition: x.definition }, evidence);
    s.history.add({ actor: 'person', kind: 'consent_failed', subject, says: `${problem.title} (${evidence})` });
    return { ...emptyOutcome(), problem };
  }
  const { tokens } = answer;
  const requested = x.consent.scopes;
  const scopes = compareScopes(requested, tokens.scopes ?? requested);
  const life = tokenLife(tokens, x.definition.dialect.assumed_life_seconds, sentAt);
  const first = {
    consentId: x.consent.id,
    connectionId: x.connection.id,
    clientId: x.client.id,
    consentedBy: x.consent.openedBy,
    scopes: scopes.granted,
    probed: probeOf(x.definition, requested) !== undefined,
    livesMs: (x.definition.dialect.absolute_life_seconds ?? 0) * 1000,
    idleLifeSeconds: x.definition.dialect.idle_life_seconds,
    grantType: x.asks.grantType,
    placeholders: x.consent.facts.placeholders ?? x.connection.placeholders,
    subject: x.asks.grantType === 'jwt_bearer' ? x.asks.subject : null,
  };
  const spilled: SpilledAnswer = { first, grantId: x.consent.grantId, epoch: 0, generation: 0, tokens, life };
  await s.keeper.saveFirst(spilled, () => insertGrant(s, spilled, first));
  s.cache.put(x.consent.grantId, { access: tokens.access, ...life, generation: 1 });
  await s.keeper.keep(subject, () => s.clientHealth.works(client));
  if (credentials.secretId !== null) await s.keeper.keep(subject, () => s.clientSecrets.verified(client, credentials.secretId as string));
  await s.keeper.keep(subject, x.verifying);
  return verifyTokens(s, x, {
    kind: x.asks.grantType,
    tokens,
    scopes: { requested, ...scopes },
    renewable: tokens.refresh !== null,
    method: credentials.method,
    nonce: x.consent.facts.nonce ?? null,
  });
}

const CODE_AGE_COUNTS: readonly string[] = ['authorization_code'];

async function askedAbout(s: ConsentParts, x: Exchange, { credentials, seen, sentAt }: { credentials: ClientCredentials; seen: WireOutcome; sentAt: number }) {
  const facts = x.consent.facts;
  const printed = x.consent.way === 'printed';
  return diagnosisInput(
    s,
    {
      client: x.client,
      definition: x.definition,
      placeholders: x.placeholders,
      redirectUri: facts.redirectUri ?? x.client.redirectUri,
      scopes: x.consent.scopes,
    },
    {
      grantType: x.asks.grantType,
      credentials,
      codeAgeMs: CODE_AGE_COUNTS.includes(x.asks.grantType) && facts.startedAt !== undefined ? sentAt - facts.startedAt : null,
      codeLifeMs: printed ? (x.definition.registration.printed_code_seconds ?? 240) * 1000 : null,
    },
    seen,
  );
}

/** Another secret of the client may be the right one: only where none is left does the client stop. */
async function clientRefused(
  s: ConsentParts,
  { client, used, definition }: { client: { id: string; name: string }; used: ClientCredentials; definition: ProviderDefinition },
  evidence: string,
): Promise<void> {
  if (used.secretId !== null) await s.clientSecrets.refused(client, used.secretId, evidence);
  const left = (await s.contexts.credentialsOf(client.id, definition)).inOrder;
  if (left.length <= 1 || left[0]?.secretId === used.secretId) await s.clientHealth.stop(client, evidence);
}
