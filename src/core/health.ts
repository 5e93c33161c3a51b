import type { RenewalCause } from './renewal/row.ts';

/** The one word that is shown for a connection, by precedence: revoked, paused, draft, then its health. */
export const CONNECTION_STATES = ['revoked', 'paused', 'draft', 'not_yet_agreed', 'needs_person', 'struggling', 'working'] as const;
export type ConnectionState = (typeof CONNECTION_STATES)[number];

export type ConnectionIntent = 'draft' | 'active' | 'paused' | 'revoked';
export type ProofState = 'not_defined' | 'not_tried' | 'proved' | 'failed';

export interface ConnectionFacts {
  intent: ConnectionIntent;
  hasGrant: boolean;
  hasRefreshToken: boolean;
  cause: RenewalCause | null;
  /** Epoch ms. */
  expiresAt: number | null;
  /** True while a renewal is still planned. */
  renewalPlanned: boolean;
  clientStopped: boolean;
  proof: ProofState;
  proofSays: string | null;
}

export interface ConnectionHealth {
  state: ConnectionState;
  /** Each null while the connection is working. */
  cause: string | null;
  remedy: string | null;
}

const CAUSE_WORDS: Record<RenewalCause, { cause: string; remedy: string }> = {
  refused: {
    cause: 'The provider refuses the refresh token: the grant was withdrawn, or has run out.',
    remedy: 'Agree again: open the connection and consent at the provider.',
  },
  lost_in_flight: {
    cause: 'The answer to a renewal was lost in flight, and the provider no longer takes the refresh token we hold.',
    remedy: 'Agree again: open the connection and consent at the provider.',
  },
  no_refresh_token: {
    cause: 'The provider gave no refresh token, so this connection ends with its access token.',
    remedy: 'Ask for offline access (often a scope of its own), then agree again.',
  },
  client_refused: {
    cause: 'The provider refuses the client\u2019s id or secret.',
    remedy: 'Enter the client\u2019s secret again, as the provider shows it now.',
  },
  set_up: {
    cause: 'The provider says that the renewal request is not what it expects.',
    remedy: 'Compare the provider definition and the client with the provider\u2019s pages.',
  },
  busy: { cause: 'The provider asked for patience.', remedy: 'Nothing to do: it is tried again as the provider asked.' },
  unsent: {
    cause: 'The provider\u2019s token endpoint cannot be reached.',
    remedy: 'Nothing to do if it is their outage; else check this machine\u2019s way to the network.',
  },
  unclear: { cause: 'The provider did not answer a renewal clearly.', remedy: 'Nothing to do yet: it is tried again.' },
  seal_broken: { cause: 'The sealed tokens of this connection do not open.', remedy: 'Restore database and master key from one backup, or agree again.' },
};
const NEEDS_PERSON: readonly RenewalCause[] = ['lost_in_flight', 'client_refused', 'set_up', 'seal_broken'];

/** Derives the shown state with cause and remedy. `now`: epoch ms. */
export function connectionHealth(facts: ConnectionFacts, now: number): ConnectionHealth {
  if (facts.intent === 'revoked') return { state: 'revoked', cause: 'It was revoked here.', remedy: 'Agree again to use it once more.' };
  if (facts.intent === 'paused')
    return {
      state: 'paused',
      cause: 'An operator paused it: no tokens are handed out. Those handed out before live on at the provider until they run out.',
      remedy: 'Resume it.',
    };
  if (!facts.hasGrant)
    return { state: facts.intent === 'draft' ? 'draft' : 'not_yet_agreed', cause: 'Nobody has agreed yet.', remedy: 'Open it and consent at the provider.' };
  const expired = facts.expiresAt !== null && facts.expiresAt <= now;
  if (facts.clientStopped) return { state: 'needs_person', ...CAUSE_WORDS.client_refused };
  if (!facts.hasRefreshToken) return { state: expired ? 'needs_person' : 'struggling', ...CAUSE_WORDS.no_refresh_token };
  if (!facts.renewalPlanned) return { state: 'needs_person', ...CAUSE_WORDS[facts.cause ?? 'refused'] };
  if (facts.cause) return { state: NEEDS_PERSON.includes(facts.cause) ? 'needs_person' : 'struggling', ...CAUSE_WORDS[facts.cause] };
  if (expired)
    return {
      state: 'struggling',
      cause: 'The access token ran out before it was renewed.',
      remedy: 'Nothing to do: it is being renewed. If it stays so, look at the workers.',
    };
  if (facts.proof === 'failed')
    return {
      state: 'struggling',
      cause: facts.proofSays ?? 'The call that should prove this connection failed.',
      remedy: 'Read the answer of the call, then try it again.',
    };
  if (facts.proof === 'not_tried') return { state: 'struggling', cause: 'The call that proves this connection was not tried yet.', remedy: 'Try the call.' };
  return { state: 'working', cause: null, remedy: null };
}
