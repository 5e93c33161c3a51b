import type { RenewalCause } from './renewal/row.ts';

/** The one word that is shown for a connection, by precedence: revoked, paused, draft, then its health. */
export const CONNECTION_STATES = ['revoked', 'paused', 'draft', 'not_yet_consented', 'action_needed', 'degraded', 'idle', 'working'] as const;
export type ConnectionState = (typeof CONNECTION_STATES)[number];

export const CONNECTION_INTENTS = ['draft', 'active', 'paused', 'revoked'] as const;
type ConnectionIntent = (typeof CONNECTION_INTENTS)[number];
export const PROOF_STATES = ['not_defined', 'not_verified', 'verified', 'failed'] as const;
export type ProofState = (typeof PROOF_STATES)[number];

export interface ConnectionFacts {
  intent: ConnectionIntent;
  hasGrant: boolean;
  hasRefreshToken: boolean;
  cause: RenewalCause | null;
  /** Epoch ms. */
  expiresAt: number | null;
  /** True while a renewal is still planned. */
  renewalPlanned: boolean;
  /** The next renewal is not due yet: where the token has expired nobody requested one, and the connection is only kept active. */
  renewalLater?: boolean;
  /** An answer did not come, and a second use of the refresh token could end the grant: it is waited for whoever may hold it. */
  atRisk: boolean;
  clientStopped: boolean;
  /** Someone consented with another account than expected, or without proof, and nobody has decided yet. */
  undecided?: boolean;
  /** Holds a grant for each person, and none of its own. */
  shared?: boolean;
  /** Nobody consents: the client asks for itself. */
  byItself?: boolean;
  proof: ProofState;
  proofSays: string | null;
}

/** Names a cause, so that connections with the same one can be shown together; `level` says where it lies. */
export const HEALTH_CAUSES = {
  revoked: 'connection',
  paused: 'connection',
  not_consented: 'connection',
  undecided: 'connection',
  refused: 'connection',
  lost_in_flight: 'connection',
  no_refresh_token: 'connection',
  seal_broken: 'connection',
  at_risk: 'provider',
  overdue: 'connection',
  proof_failed: 'connection',
  not_verified: 'connection',
  client_refused: 'client',
  unconfirmed: 'client',
  busy: 'client',
  set_up: 'client',
  unsent: 'provider',
  unclear: 'provider',
} as const satisfies Record<string, 'connection' | 'client' | 'provider'>;
export type HealthCause = keyof typeof HEALTH_CAUSES;

export interface ConnectionHealth {
  state: ConnectionState;
  /** Null while the connection is working or idle. */
  cause_key: HealthCause | null;
  /** Each null while the connection is working. */
  cause: string | null;
  remedy: string | null;
}

export const CAUSE_WORDS: Record<RenewalCause, { cause: string; remedy: string }> = {
  refused: {
    cause: 'The provider rejects the refresh token: the grant was withdrawn, or has expired.',
    remedy: 'Reconnect: open the connection and consent at the provider.',
  },
  lost_in_flight: {
    cause: 'The answer to a renewal was lost in flight, and the provider no longer takes the refresh token we hold.',
    remedy: 'Reconnect: open the connection and consent at the provider.',
  },
  no_refresh_token: {
    cause: 'The provider gave no refresh token, so this connection ends with its access token.',
    remedy: 'Request offline access (often a scope of its own), then reconnect.',
  },
  client_refused: {
    cause: 'The provider rejects the client: its id or secret, or its approval.',
    remedy: 'Look at the client\u2019s page at the provider: is it still approved? Enter its secret again, as the provider shows it now.',
  },
  set_up: {
    cause: 'The provider reports that the renewal request is not what it expects.',
    remedy: 'Compare the provider definition and the client with the provider\u2019s pages.',
  },
  busy: { cause: 'The provider asked us to wait.', remedy: 'Nothing to do: it is tried again as the provider asked.' },
  unsent: {
    cause: 'The provider\u2019s token endpoint cannot be reached.',
    remedy: 'Nothing to do if it is their outage; else check this machine\u2019s way to the network.',
  },
  unclear: { cause: 'The provider did not answer a renewal clearly.', remedy: 'Nothing to do yet: it is tried again.' },
  unconfirmed: {
    cause: 'The provider definition now names other addresses for tokens or calls, and nobody has confirmed them: nothing is sent to them.',
    remedy: 'Look at the addresses on the client\u2019s page, and confirm them with your own password.',
  },
  seal_broken: { cause: 'The sealed tokens of this connection do not open.', remedy: 'Restore database and master key from one backup, or reconnect.' },
};
/** What to do about each cause. */
const REMEDIES: Record<HealthCause, string> = {
  ...(Object.fromEntries(Object.entries(CAUSE_WORDS).map(([cause, { remedy }]) => [cause, remedy])) as Record<RenewalCause, string>),
  revoked: 'Reconnect to use it once more.',
  paused: 'Resume it.',
  undecided: 'Look at who consented and to what, then use them or discard them.',
  not_consented: 'Open it and consent at the provider.',
  at_risk: 'Nothing to do yet: it is retried automatically. Should the provider then reject it, someone must reconnect.',
  overdue: 'Nothing to do: it is being renewed. If it stays so, look at the workers.',
  proof_failed: 'Read the response of the test call, then repeat it.',
  not_verified: 'Make the test call.',
};
const NEEDS_PERSON: readonly RenewalCause[] = ['lost_in_flight', 'client_refused', 'set_up', 'seal_broken', 'unconfirmed'];

const WORKING: ConnectionHealth = { state: 'working', cause_key: null, cause: null, remedy: null };

/** Derives the shown state with cause and remedy. `now`: epoch ms. */
export function connectionHealth(facts: ConnectionFacts, now: number): ConnectionHealth {
  if (facts.intent === 'revoked') return { state: 'revoked', cause_key: 'revoked', cause: 'It was revoked here.', remedy: REMEDIES.revoked };
  if (facts.intent === 'paused')
    return {
      state: 'paused',
      cause_key: 'paused',
      cause: 'An operator paused it: no tokens are issued. Tokens issued before stay valid at the provider until they expire.',
      remedy: REMEDIES.paused,
    };
  if (facts.shared) return facts.clientStopped ? { state: 'action_needed', cause_key: 'client_refused', ...CAUSE_WORDS.client_refused } : WORKING;
  if (!facts.hasGrant && facts.undecided)
    return {
      state: 'action_needed',
      cause_key: 'undecided',
      cause: 'Tokens came and are kept, but not as expected: nobody has decided yet whether to use them.',
      remedy: REMEDIES.undecided,
    };
  if (!facts.hasGrant)
    return {
      state: facts.intent === 'draft' ? 'draft' : 'not_yet_consented',
      cause_key: 'not_consented',
      cause: facts.byItself ? 'The client has not requested its token yet.' : 'Nobody has consented yet.',
      remedy: facts.byItself ? 'Request the token.' : REMEDIES.not_consented,
    };
  const expired = facts.expiresAt !== null && facts.expiresAt <= now;
  const because = (state: ConnectionState, cause: RenewalCause): ConnectionHealth => ({ state, cause_key: cause, ...CAUSE_WORDS[cause] });
  if (facts.clientStopped) return because('action_needed', 'client_refused');
  if (!facts.hasRefreshToken) return because('action_needed', 'no_refresh_token'); // its token may live on: only a person makes it last
  if (!facts.renewalPlanned) return because('action_needed', facts.cause ?? 'refused');
  if (facts.atRisk)
    return {
      state: 'degraded',
      cause_key: 'at_risk',
      cause:
        'At risk: the answer to a renewal did not come. Using the refresh token again could end the grant, so it is waited until nobody can hold that answer any more.',
      remedy: REMEDIES.at_risk,
    };
  if (facts.cause) return because(NEEDS_PERSON.includes(facts.cause) ? 'action_needed' : 'degraded', facts.cause);
  if (expired && facts.renewalLater)
    return {
      state: 'idle',
      cause_key: null,
      cause: 'Idle: renews on request. No caller requested a token recently.',
      remedy: 'No action needed. The next token request renews it.',
    };
  if (expired)
    return {
      state: 'degraded',
      cause_key: 'overdue',
      cause: 'The access token expired before it was renewed.',
      remedy: REMEDIES.overdue,
    };
  if (facts.proof === 'failed')
    return {
      state: 'degraded',
      cause_key: 'proof_failed',
      cause: facts.proofSays ?? 'The test call failed.',
      remedy: REMEDIES.proof_failed,
    };
  if (facts.proof === 'not_verified')
    return { state: 'degraded', cause_key: 'not_verified', cause: 'The call that verifies this connection was not made yet.', remedy: REMEDIES.not_verified };
  return WORKING;
}

/** What to do about a cause, whatever connection it is. */
export const remedyFor = (key: HealthCause): string => REMEDIES[key];

/** One cause that several connections share, in one sentence. `provider` and `client` as people read them. */
export function groupInWords(key: HealthCause, provider: string, client: string): string {
  const words: Record<HealthCause, string> = {
    revoked: `Revoked here: connections through ${client}`,
    paused: `Paused: connections through ${client}`,
    undecided: `Not as expected, and not decided: connections through ${client}`,
    not_consented: `Nobody has consented yet: connections through ${client}`,
    refused: `${provider} rejects refresh tokens of ${client}`,
    lost_in_flight: `Answers of ${provider} to ${client} were lost in flight`,
    no_refresh_token: `${provider} gave no refresh token through ${client}`,
    seal_broken: `Sealed tokens of ${client} do not open`,
    at_risk: `At risk: ${provider} may have renewed, and the answer did not come`,
    overdue: `Not renewed in time: connections through ${client}`,
    proof_failed: `The call that verifies it fails, through ${client}`,
    not_verified: `Not verified yet, through ${client}`,
    client_refused: `${provider} rejects the client ${client}`,
    unconfirmed: `New addresses of ${provider} are not confirmed for ${client}`,
    busy: `${provider} limits the rate of the client ${client}`,
    set_up: `${provider} does not understand the renewals of ${client}`,
    unsent: `${provider} cannot be reached`,
    unclear: `${provider} does not answer renewals clearly`,
  };
  return words[key];
}

const DAY_MS = 86_400_000;
const UNWELL_CHECKED_MS = 10 * 60_000;
/** A retry is over within this time, and whoever made it has reported: unless it crashed between the two. */
const RETRY_TAKES_MS = 30_000;

/**
 * When the state may have become another one by time alone, epoch ms: a token expires, or a renewal falls due. Whatever else changes a
 * state shows it itself; one that is not well is checked again in any case.
 * @param nextAt the next renewal, epoch ms
 */
export function healthChangesAt(state: ConnectionState, life: { expiresAt: number | null; nextAt: number | null }, now: number): number {
  const within = (at: number | null) => Math.min(Math.max(at ?? Number.POSITIVE_INFINITY, now) + 1, now + DAY_MS);
  if (state === 'working') return within(life.expiresAt);
  if (state === 'idle') return within(life.nextAt);
  if (state === 'degraded') return Math.min(Math.max(life.nextAt ?? now, now) + RETRY_TAKES_MS, now + UNWELL_CHECKED_MS);
  return now + (state === 'action_needed' ? UNWELL_CHECKED_MS : DAY_MS);
}
