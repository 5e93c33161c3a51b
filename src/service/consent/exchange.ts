import { base64url } from '../../core/identifiers.ts';
import type { ClientCredentials } from '../../core/oauth/client-authentication.ts';
import { readTokenOutcome } from '../../core/oauth/token-answer.ts';
import { type TokenRequest, tokenRequest } from '../../core/oauth/token-request.ts';
import { wireRecord } from '../../core/oauth/wire-record.ts';
import { methodOfProbe, probeOf } from '../../core/provider/api.ts';
import { apiBaseAllowed, withApiBase } from '../../core/provider/api-base.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { planRenewal, requestDeadlineMs } from '../../core/renewal/plan.ts';
import { firstRow } from '../../core/renewal/row.ts';
import { end } from '../../core/renewal/transitions.ts';
import { compareScopes } from '../../core/scopes/compare.ts';
import { apiAddress, callApi, isGood } from '../calls.ts';
import { keepProof } from '../registry/connection-calls.ts';
import type { Services } from '../registry/services.ts';
import { sealTokens } from '../renewal/answer-keeper.ts';
import { evidenceText, tokenLife } from '../renewal/evidence.ts';
import type { FirstAnswer, SpilledAnswer } from '../renewal/spill.ts';
import { idBytes } from '../store/database.ts';
import type { Row } from '../store/tables.ts';
import { readIdentity } from './identity.ts';
import { emptyOutcome, exchangeProblem, type StoredOutcome } from './outcome.ts';

export interface Exchange {
  consent: Row<'consents'>;
  client: Row<'clients'>;
  definition: ProviderDefinition;
  connection: Row<'connections'>;
  /** What is exchanged for tokens: a code, or nothing but the client's own credentials. */
  asks: Exclude<TokenRequest, { grantType: 'refresh_token' }>;
  /** Called once the tokens are safe. */
  proving(): Promise<unknown>;
}

/** Code to tokens to a proved grant. The tokens are saved before anything else is done with them. */
export async function exchange(s: Services, x: Exchange): Promise<StoredOutcome> {
  const subject = `connection:${x.connection.name}`;
  const clientName = `${x.definition.name}/${x.client.name}`;
  const [credentials] = (await s.contexts.credentialsOf(x.client.id, x.definition)).inOrder;
  if (!credentials)
    return {
      ...emptyOutcome(),
      problem: {
        title: 'The client is not complete any more.',
        evidence: null,
        side: 'client',
        remedy: 'Enter its id and secret, then open the connection again.',
      },
    };

  const sentAt = s.ports.clock.now();
  const once = { now: sentAt, deadlineMs: requestDeadlineMs(s.settings.limits, null), jti: base64url(s.ports.random.bytes(16)) };
  const request = await tokenRequest(x.definition, credentials, x.asks, once);
  const seen = await s.ports.send({ ...request, freshSocket: true });
  const answer = readTokenOutcome(seen, x.definition.dialect);
  s.wireLog.add(x.consent.grantId, 0, answer.kind, () => wireRecord(request, seen));
  if (answer.kind !== 'tokens') {
    if (answer.kind === 'client_refused')
      await clientRefused(s, { id: x.client.id, name: clientName }, credentials, x.definition, evidenceText(answer.evidence));
    const problem = exchangeProblem(answer, x.asks.grantType);
    s.history.add({ actor: 'person', kind: 'consent_failed', subject, says: `${problem.title} (${problem.evidence ?? ''})` });
    return { ...emptyOutcome(), problem };
  }

  const { tokens } = answer;
  const grantId = x.consent.grantId;
  const requested = x.consent.scopes as string[];
  const scopes = compareScopes(requested, tokens.scopes ?? requested);
  const life = tokenLife(tokens, x.definition.dialect.assumed_life_seconds, sentAt);
  const probe = probeOf(x.definition);
  const first = {
    consentId: x.consent.id,
    connectionId: x.connection.id,
    clientId: x.client.id,
    consentedBy: x.consent.openedBy,
    scopes: scopes.granted,
    probed: probe !== undefined,
    livesMs: (x.definition.dialect.absolute_life_seconds ?? 0) * 1000,
    grantType: x.asks.grantType,
  };
  const spilled: SpilledAnswer = { first, grantId, epoch: 0, generation: 0, tokens, life };
  await s.keeper.saveFirst(spilled, () => insertGrant(s, spilled, first));
  s.cache.put(grantId, { access: tokens.access, ...life, generation: 1 });
  await s.keeper.keep(subject, () => s.clientHealth.works({ id: x.client.id, name: clientName }));
  if (credentials.secretId !== null)
    await s.keeper.keep(subject, () => s.clientSecrets.proved({ id: x.client.id, name: clientName }, credentials.secretId as string));
  await s.keeper.keep(subject, x.proving);

  const ofClient = x.asks.grantType === 'client_credentials';
  const identity = ofClient ? { account: null, warning: null } : await readIdentity(s.ports, x.definition, tokens);
  const { apiBaseUrl } = tokens;
  const baseTaken = apiBaseUrl !== undefined && apiBaseAllowed(x.definition, apiBaseUrl);
  if (baseTaken) await s.keeper.keep(subject, async () => void (await s.tables.grants.change({ id: grantId }, { apiBaseUrl })));
  const definition = withApiBase(x.definition, baseTaken ? apiBaseUrl : null);
  const outcome: StoredOutcome = {
    ...emptyOutcome(),
    account: identity.account,
    scopes: { requested, ...scopes },
    refresh_token: tokens.refresh !== null,
    access_token_life_seconds: tokens.lifeMs === null ? null : tokens.lifeMs / 1000,
    first_call: probe ? await callApi(s.ports, apiAddress(definition, probe.path), tokens.access, methodOfProbe(probe)) : null,
    warnings: [
      ...(apiBaseUrl !== undefined && !baseTaken
        ? [`The answer names the API at ${apiBaseUrl.slice(0, 200)}, which is not among the hosts of the definition: nothing is sent there.`]
        : []),
      ...(tokens.refresh || ofClient
        ? []
        : ['No refresh token came: this connection ends with its access token. Ask for offline access (often a scope of its own), then agree again.']),
      ...(tokens.lifeMs === null ? [`The provider named no life for the token; ${x.definition.dialect.assumed_life_seconds} seconds are assumed.`] : []),
      ...scopes.missing.map((scope) => `The scope ${scope} was asked for and not granted: calls that need it will be refused.`),
      ...scopes.unasked.map((scope) => `The scope ${scope} was granted without being asked for.`),
      ...(identity.warning ? [identity.warning] : []),
    ],
  };
  if (outcome.first_call) await s.keeper.keep(subject, () => keepProof(s, grantId, outcome.first_call as NonNullable<typeof outcome.first_call>, x.definition));
  if (identity.account)
    await s.keeper.keep(
      subject,
      async () =>
        void (await s.tables.grants.change({ id: grantId }, { accountId: identity.account?.id ?? null, accountLabel: identity.account?.label ?? null })),
    );
  const problem = await s.keeper.keep(subject, () => makeCurrent(s, x, outcome));
  s.history.add({
    actor: x.consent.openedBy,
    kind: problem ? 'consent_set_aside' : 'consented',
    subject,
    says: problem
      ? problem.title
      : ofClient
        ? `The client got a token of its own${scopes.granted.length > 0 ? ` with ${scopes.granted.length} scopes` : ''}.`
        : `${outcome.account?.label ?? 'Somebody'} agreed to ${scopes.granted.length} scopes${tokens.refresh ? '' : ', without a refresh token'}.`,
    data: { granted: scopes.granted, missing: scopes.missing, refresh_token: tokens.refresh !== null, first_call: outcome.first_call?.status ?? null },
  });
  return { ...outcome, problem };
}

/** Another secret of the client may be the right one: only where none is left does the client stop. */
async function clientRefused(
  s: Services,
  client: { id: string; name: string },
  used: ClientCredentials,
  definition: ProviderDefinition,
  evidence: string,
): Promise<void> {
  if (used.secretId !== null) await s.clientSecrets.refused(client, used.secretId, evidence);
  const left = (await s.contexts.credentialsOf(client.id, definition)).inOrder;
  if (left.length <= 1 || left[0]?.secretId === used.secretId) await s.clientHealth.stop(client, evidence);
}

/** Inserts grant, renewal row and tokens; a repeat after a lost acknowledgement, or after a crash, finds its own rows. */
async function insertGrant(s: Pick<Services, 'tables' | 'renewals' | 'sealer' | 'ports'>, answer: SpilledAnswer, first: FirstAnswer): Promise<void> {
  const id = answer.grantId;
  if (!(await s.tables.grants.find({ id })))
    await s.tables.grants.insert({
      id,
      connectionId: first.connectionId,
      kind: first.grantType ?? 'authorization_code',
      personKey: null,
      accountId: null,
      accountLabel: null,
      scopes: first.scopes,
      consentedBy: first.consentedBy,
      consentedAt: s.ports.clock.now(),
      endedAt: null,
      cause: null,
      evidence: null,
      proof: first.probed ? 'not_tried' : 'not_defined',
      proofAnswer: null,
      lifeEndsAt: first.livesMs > 0 ? s.ports.clock.now() + first.livesMs : null,
      apiBaseUrl: null,
    });
  if (await s.renewals.read(id)) return;
  const nextAt = answer.tokens.refresh || first.grantType === 'client_credentials' ? planRenewal(answer.life, s.ports.random.unit()) : null;
  await s.renewals.insert(id, first.clientId, firstRow(answer.life, nextAt), sealTokens(s.sealer, id, answer.tokens));
}

/**
 * A first answer that a former life had spilled: the grant is made after all. It becomes current where the connection has none that
 * works; who agreed was not read any more, so a working connection keeps what it has.
 */
export async function resumeFirst(
  s: Pick<Services, 'tables' | 'renewals' | 'sealer' | 'ports' | 'changes' | 'history' | 'database' | 'cache'>,
  answer: SpilledAnswer,
  first: FirstAnswer,
): Promise<void> {
  const connection = await s.tables.connections.find({ id: first.connectionId });
  if (!connection) return;
  await insertGrant(s, answer, first);
  const former = connection.currentGrantId === null ? null : await s.renewals.read(connection.currentGrantId);
  if (connection.currentGrantId !== answer.grantId && former !== null && former.row.nextAt !== null) {
    await endGrant(s, answer.grantId, 'set_aside');
    return;
  }
  await s.tables.connections.change({ id: connection.id }, { currentGrantId: answer.grantId, intent: 'active' });
  const warnings = [
    'The service was interrupted right after the tokens came; they were kept. Who agreed was not read: try the call on the page of the connection.',
  ];
  await s.tables.consents.change(
    { id: first.consentId, finishedAt: null },
    { phase: 'done', finishedAt: s.ports.clock.now(), outcome: { ...emptyOutcome(), refresh_token: answer.tokens.refresh !== null, warnings } },
  );
  await s.changes.announce('connection', connection.name);
  s.history.add({
    actor: 'service',
    kind: 'consented',
    subject: `connection:${connection.name}`,
    says: 'The tokens of an interrupted consent were kept, and are in use.',
  });
}

/** Ends a grant and forgets its tokens, here only: at the provider it stays. */
async function endGrant(
  s: Pick<Services, 'renewals' | 'database' | 'tables' | 'ports' | 'cache'>,
  grantId: string,
  cause: 'set_aside' | 'replaced',
): Promise<void> {
  await s.renewals.update([grantId], end());
  await s.tables.grants.change({ id: grantId }, { endedAt: s.ports.clock.now(), cause });
  await s.database.write('DELETE FROM tokens WHERE grant_id = $1', [idBytes(grantId)]);
  s.cache.drop(grantId);
}

/**
 * The new grant becomes current when it is proved, or when there is nothing good to keep; the old one is then ended.
 * Another account than expected, or than last time, never replaces silently.
 */
async function makeCurrent(s: Services, x: Exchange, outcome: StoredOutcome): Promise<StoredOutcome['problem']> {
  const connection = await s.tables.connections.find({ id: x.connection.id });
  const former =
    connection?.currentGrantId && connection.currentGrantId !== x.consent.grantId ? await s.tables.grants.find({ id: connection.currentGrantId }) : null;
  const formerRow = former ? await s.renewals.read(former.id) : null;
  const formerLives = formerRow !== null && formerRow.row.nextAt !== null && formerRow.row.refusedAt === null;
  const reason =
    otherAccount(x.connection.expectedAccount, former, outcome) ??
    (formerLives && outcome.first_call && !isGood(outcome.first_call, x.definition) ? notProved(outcome) : null);
  if (reason) {
    await endGrant(s, x.consent.grantId, 'set_aside');
    return reason;
  }
  await s.tables.connections.change({ id: x.connection.id }, { currentGrantId: x.consent.grantId, intent: 'active' });
  if (former) await endGrant(s, former.id, 'replaced');
  await s.changes.announce('connection', x.connection.name);
  return null;
}

function otherAccount(expected: string | null, former: Row<'grants'> | null, outcome: StoredOutcome): StoredOutcome['problem'] {
  const account = outcome.account;
  if (!account) return null;
  const says = (who: string): StoredOutcome['problem'] => ({
    title: `Another account agreed: ${account.label}; expected was ${who}.`,
    evidence: null,
    side: 'person',
    remedy:
      'Its tokens were forgotten and nothing else changed. Sign out at the provider, then open the connection again with the right account; or change the expected account.',
  });
  if (expected && ![account.id, account.label].some((one) => one.toLowerCase() === expected.toLowerCase())) return says(expected);
  if (!expected && former?.accountId && former.accountId !== account.id) return says(former.accountLabel ?? former.accountId);
  return null;
}

const notProved = (outcome: StoredOutcome): StoredOutcome['problem'] => ({
  title: 'The first call with the new tokens failed, so the connection goes on with the former ones.',
  evidence: `The call answered ${outcome.first_call?.status ?? outcome.first_call?.reason}.`,
  side: 'provider',
  remedy: 'Compare the scopes granted with what the call needs, then open the connection again.',
});
