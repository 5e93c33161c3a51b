import type { CallAnswer } from '../../api/common.ts';
import { causeFacts } from '../../core/diagnosis/causes.ts';
import { shownClaims } from '../../core/diagnosis/claims.ts';
import { diagnosis } from '../../core/diagnosis/diagnosis.ts';
import { Fault } from '../../core/fault.ts';
import { type GrantKind, isClientsOwn } from '../../core/oauth/grant-kinds.ts';
import { noRefreshTokenRemedy } from '../../core/oauth/offline.ts';
import type { FreshTokens } from '../../core/oauth/token-answer.ts';
import { addressOfProbe, methodOfProbe, probeOf } from '../../core/provider/api.ts';
import { apiBaseAllowed, withApiBase } from '../../core/provider/api-base.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { mayVerifyRenewal } from '../../core/renewal/plan.ts';
import { bringForward } from '../../core/renewal/transitions.ts';
import type { ScopeDifference } from '../../core/scopes/compare.ts';
import {
  type AboutToken,
  type ApiAddress,
  apiAddress,
  type CalledGrant,
  callGrant,
  isGood,
  keepProof,
  moveToStandby,
  type Retirement,
  readIdentity,
  retiredInWords,
  retireGrant,
} from '../grants/index.ts';
import { emptyOutcome } from '../records/index.ts';
import type { ClientRow } from '../store/clients.ts';
import type { ConnectionRow } from '../store/connections.ts';
import type { ConsentFacts, ConsentRow, StoredOutcome } from '../store/consents.ts';
import type { GrantRow } from '../store/grants.ts';
import { problemOf } from './outcome.ts';
import type { ConsentParts } from './parts.ts';

/** Tokens that are safe, and what is known of how they came. */
export interface SafeTokens {
  /** A static key is never verified here: nobody consented to it, and it is given as it is. */
  kind: Exclude<GrantKind, 'static_key'>;
  tokens: Pick<FreshTokens, 'access' | 'account' | 'idToken' | 'apiBaseUrl' | 'lifeMs'>;
  scopes: { requested: string[] } & ScopeDifference;
  renewable: boolean;
  method: string;
  nonce: string | null;
}

export interface Verifying {
  consent: ConsentRow;
  client: ClientRow;
  definition: ProviderDefinition;
  connection: ConnectionRow;
}

/**
 * From safe tokens to a grant in use: who consented and what was opened, the first call, one renewal where that is safe. The grant becomes
 * current when it is as expected, or waits beside the current one until someone decides.
 */
export async function verifyTokens(s: ConsentParts, x: Verifying, safe: SafeTokens): Promise<StoredOutcome> {
  const subject = `connection:${x.connection.name}`;
  const grantId = x.consent.grantId;
  const { tokens, scopes } = safe;
  const personal = !isClientsOwn(safe.kind);
  const asked = { scopes: scopes.requested, clientId: x.client.clientId ?? '', nonce: safe.nonce };
  const identity = personal ? await readIdentity(s.ports, x.definition, tokens, asked) : { account: null, opened: null, warning: null, odd: null };
  const { apiBaseUrl } = tokens;
  const baseTaken = apiBaseUrl !== undefined && apiBaseAllowed(x.definition, apiBaseUrl);
  if (baseTaken) await s.keeper.keep(subject, async () => void (await s.store.grants.change(grantId, { apiBaseUrl })));
  const definition = withApiBase(x.definition, baseTaken ? apiBaseUrl : null);
  const probe = probeOf(definition, scopes.requested);
  const about = {
    definition,
    scopesRequested: scopes.requested,
    scopesGranted: scopes.granted,
    ofClient: !personal,
    byCertificate: safe.method === 'private_key_jwt',
  };
  const firstCall = probe
    ? await firstCallOf(s, {
        grant: { id: grantId, kind: safe.kind, connectionId: x.connection.id, clientId: x.client.id, access: tokens.access },
        address: apiAddress(definition, addressOfProbe(definition, probe)),
        method: methodOfProbe(probe),
        about,
      })
    : null;
  const outcome: StoredOutcome = {
    ...emptyOutcome(),
    account: identity.account,
    opened: identity.opened,
    scopes,
    refresh_token: safe.renewable,
    access_token_life_seconds: tokens.lifeMs === null ? null : tokens.lifeMs / 1000,
    first_call: firstCall,
    warnings: [
      ...(x.consent.facts.spaced ? ['The code was pasted with spaces or line breaks; they were taken out.'] : []),
      ...(apiBaseUrl !== undefined && !baseTaken
        ? [`The answer names the API at ${apiBaseUrl.slice(0, 200)}, which is not among the hosts of the definition: nothing is sent to it.`]
        : []),
      ...(safe.renewable || !personal ? [] : [`${causeFacts('no_refresh_token').title} ${noRefreshTokenRemedy(x.definition, scopes.requested)}`]),
      ...(tokens.lifeMs === null ? [`The provider named no lifetime for the token; ${x.definition.dialect.assumed_life_seconds} seconds are assumed.`] : []),
      ...scopes.missing.map((scope) => `The scope ${scope} was requested and not granted: calls that need it will be rejected.`),
      ...scopes.unasked.map((scope) => `The scope ${scope} was granted without being requested.`),
      ...(identity.warning ? [identity.warning] : []),
    ],
  };
  if (firstCall) await s.keeper.keep(subject, () => keepProof(s, grantId, firstCall, definition));
  await s.keeper.keep(subject, () =>
    s.store.grants.change(grantId, {
      accountId: identity.account?.id ?? null,
      accountLabel: identity.account?.label ?? null,
      opened: identity.opened,
      claims: shownClaims(tokens.access),
    }),
  );
  const {
    problem,
    decide,
    retired = 'nothing',
  } = await s.keeper.keep(subject, () => makeCurrent(s, x, { outcome, odd: identity.odd, good: isGoodOrNone(firstCall, definition) }));
  const renewed = await verifyRenewal(s, x, safe, grantId);
  if (renewed) outcome.warnings.push(renewed);
  s.history.add({
    actor: x.consent.openedBy,
    kind: problem ? 'consent_set_aside' : decide ? 'prepared' : 'consented',
    subject,
    says: problem
      ? problem.title
      : !personal
        ? `The client got a token of its own${scopes.granted.length > 0 ? ` with ${scopeCount(scopes.granted.length)}` : ''}.`
        : `${outcome.account?.label ?? 'Someone'} consented to ${scopeCount(scopes.granted.length)}${safe.renewable ? '' : ', without a refresh token'}.${retiredInWords(retired)}`,
    data: { granted: scopes.granted, missing: scopes.missing, refresh_token: safe.renewable, first_call: firstCall?.status ?? null },
  });
  return { ...outcome, problem, decide };
}

/** A session that could not be opened is an answer too: the tokens are safe, and what failed is said. */
async function firstCallOf(
  s: ConsentParts,
  { grant, address, method, about }: { grant: CalledGrant; address: ApiAddress; method: string; about: AboutToken },
): Promise<CallAnswer> {
  try {
    return await callGrant(s, { grant, address, what: { method }, about });
  } catch (error) {
    if (!(error instanceof Fault)) throw error;
    return {
      method,
      url: address.url,
      status: null,
      reason: error.message.slice(0, 500),
      content_type: null,
      body: '',
      cut: false,
      took_ms: 0,
      at: new Date(s.ports.clock.now()).toISOString(),
    };
  }
}

const scopeCount = (count: number): string => (count === 1 ? 'one scope' : `${count} scopes`);

const isGoodOrNone = (call: StoredOutcome['first_call'], definition: ProviderDefinition): boolean => call === null || isGood(call, definition);

/** One renewal straight away, where the dialect states that a lost answer would cost nothing. What went wrong, or null. */
async function verifyRenewal(s: ConsentParts, x: Verifying, safe: SafeTokens, grantId: string): Promise<string | null> {
  if (!s.settings.verifyRenewal || !safe.renewable || !mayVerifyRenewal(x.definition.dialect) || safe.kind === 'imported') return null;
  const before = (await s.store.renewals.read(grantId))?.row;
  if (!before || before.ended || (await s.store.renewals.update([grantId], bringForward())) === 0) return null;
  await s.engine.renewOne(grantId);
  const after = (await s.store.renewals.read(grantId))?.row;
  if (!after || after.generation > before.generation || after.failures === before.failures) return null; // or it was not its turn
  return 'One renewal was tried and did not work: look at the attempts on the page of the connection.';
}

interface Placed {
  problem: StoredOutcome['problem'];
  decide: StoredOutcome['decide'];
  /** What became of the former grant. */
  retired?: Retirement;
}

/**
 * The new grant becomes current when it is verified, or when there is nothing good to keep; the old one is then ended. Another account
 * than expected, or than last time, never replaces silently: its tokens wait until someone decides.
 */
async function makeCurrent(
  s: ConsentParts,
  x: Verifying,
  { outcome, odd, good }: { outcome: StoredOutcome; odd: string | null; good: boolean },
): Promise<Placed> {
  const facts = x.consent.facts;
  const { grantId } = x.consent;
  const connection = await s.store.connections.byId(x.connection.id);
  const former = connection?.currentGrantId && connection.currentGrantId !== grantId ? await s.store.grants.byId(connection.currentGrantId) : null;
  const formerRow = former ? await s.store.renewals.read(former.id) : null;
  const formerLives =
    formerRow !== null && !formerRow.row.ended && (former?.kind === 'static_key' || (formerRow.row.nextAt !== null && formerRow.row.refusedAt === null));
  const moved = facts.movesTo !== undefined;
  const other = otherAccount(x.connection.expectedAccount, former, outcome, moved);
  const waits = async (why: NonNullable<Placed['decide']>, problem: Placed['problem']): Promise<Placed> => {
    await moveToStandby(s, x.connection.id, grantId, why);
    return { problem, decide: why };
  };
  if (odd) return waits('not_verified', { ...problemOf(diagnosis('answer_forged', { evidence: [odd] })), title: odd });
  if (other) return waits('other_account', other);
  if (facts.prepares && formerLives) return waits('prepared', null);
  if (formerLives && !good) return waits('not_verified', notVerified(outcome));
  // Only in place of the grant that was looked at: another consent may have ended meanwhile, and then it is checked again.
  if (connection?.currentGrantId !== grantId) {
    const was = { id: x.connection.id, currentGrantId: connection?.currentGrantId ?? null };
    if (!(await s.store.connections.useGrant(was, grantId, { intent: 'active', ...movedTo(x, facts) })) && (await s.store.connections.byId(x.connection.id)))
      throw new Fault('REVISION_CONFLICT');
  }
  const retired = former ? await retireGrant(s, former.id, 'replaced', grantId) : 'nothing';
  if (moved)
    s.history.add({
      actor: x.consent.openedBy,
      kind: 'moved',
      subject: `connection:${x.connection.name}`,
      says: `Moved to the client ${x.definition.name}/${x.client.name}.`,
    });
  await s.changes.announce('connection', x.connection.name);
  return { problem: null, decide: null, retired };
}

/** Where the connection moves with its new tokens: to another client, with its own values. */
const movedTo = (x: Verifying, facts: ConsentFacts): Partial<ConnectionRow> => ({
  clientId: x.client.id,
  ...(facts.placeholders ? { placeholders: facts.placeholders } : {}),
});

const same = (one: string, other: string): boolean => one.toLowerCase() === other.toLowerCase();

function otherAccount(expected: string | null, former: GrantRow | null, outcome: StoredOutcome, moved: boolean): StoredOutcome['problem'] {
  const { account, opened } = outcome;
  const says = (title: string): StoredOutcome['problem'] => ({
    title,
    evidence: null,
    side: 'person',
    remedy:
      'Decide: use its tokens anyway, or discard them. Until then nothing else changed. For the right account, sign out at the provider, then open the connection again.',
  });
  if (!account) return null;
  if (expected && ![account.id, account.label].some((one) => same(one, expected)))
    return says(`Another account consented: ${account.label}. Expected: ${expected}.`);
  // In another environment accounts have other ids; what was expected is still compared.
  if (moved) return null;
  if (!expected && former?.accountId && former.accountId !== account.id)
    return says(`Another account consented: ${account.label}. Expected: ${former.accountLabel ?? former.accountId}.`);
  if (former?.opened && opened && former.opened !== opened) return says(`Something else was opened: ${opened}; last time it was ${former.opened}.`);
  return null;
}

const notVerified = (outcome: StoredOutcome): StoredOutcome['problem'] => ({
  title: 'The first call with the new tokens failed, so the connection keeps using the previous ones.',
  evidence: `The call answered ${outcome.first_call?.status ?? outcome.first_call?.reason}.`,
  side: outcome.first_call?.diagnosis?.side ?? 'provider',
  remedy: `${outcome.first_call?.diagnosis?.remedy ?? 'Compare the scopes granted with what the call needs.'} The new tokens wait: use them anyway, or discard them.`,
  ...(outcome.first_call?.diagnosis ? { diagnosis: outcome.first_call.diagnosis } : {}),
});
