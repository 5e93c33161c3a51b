import type { ConsentOutcome } from '../../api/connections.ts';
import type { CallbackOutcome } from '../../core/oauth/callback.ts';
import { plainText, type TokenOutcome } from '../../core/oauth/token-answer.ts';
import { reasonInWords } from '../../core/oauth/wire.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { reviewScopes } from '../../core/scopes/compare.ts';
import { evidenceText } from '../renewal/evidence.ts';

export type ConsentProblem = NonNullable<ConsentOutcome['problem']>;
export type StoredOutcome = Pick<ConsentOutcome, 'account' | 'scopes' | 'refresh_token' | 'access_token_life_seconds' | 'first_call' | 'problem' | 'warnings'>;

export const emptyOutcome = (): StoredOutcome => ({
  account: null,
  scopes: null,
  refresh_token: null,
  access_token_life_seconds: null,
  first_call: null,
  problem: null,
  warnings: [],
});

const AGAIN = 'Open the connection again.';

/** What is said of a consent that never finished, by the phase in which it stayed. */
export const STALE_PROBLEMS: Record<string, ConsentProblem> = {
  offered: { title: 'The link was not used in time.', evidence: null, side: 'person', remedy: AGAIN },
  started: {
    title: 'Nothing came back from the provider.',
    evidence: null,
    side: 'client',
    remedy: 'Look at the page where the provider stopped: compare the redirect URI and the client id registered there. Then open the connection again.',
  },
  exchanging: { title: 'The service stopped while it exchanged the code.', evidence: null, side: 'ours', remedy: `A code is never sent twice. ${AGAIN}` },
  proving: {
    title: 'The service stopped before the first call.',
    evidence: null,
    side: 'ours',
    remedy: 'The tokens are kept. Try the call from the page of the connection.',
  },
};

/** The provider sent the browser back without a code (RFC 6749 §4.1.2.1). */
export function callbackProblem(answer: Exclude<CallbackOutcome, { kind: 'code' }>, definition: ProviderDefinition, scopes: string[]): ConsentProblem {
  if (answer.kind === 'odd')
    return {
      title: 'The answer of the provider was not accepted.',
      evidence: answer.why,
      side: 'provider',
      remedy: `If it stays so, compare the issuer in the definition with the provider\u2019s metadata. ${AGAIN}`,
    };
  const evidence = [answer.error, plainText(answer.description)].filter(Boolean).join(': ');
  switch (answer.error) {
    case 'access_denied':
      return { title: 'The person did not agree.', evidence, side: 'person', remedy: `Ask whether it was meant, then: ${AGAIN.toLowerCase()}` };
    case 'invalid_scope': {
      const odd = reviewScopes(
        scopes,
        definition.scopes.map((scope) => scope.name),
      )[0];
      return {
        title: 'The provider does not know a scope that was asked for.',
        evidence,
        side: 'ours',
        remedy: odd
          ? `${odd.says} Change the scopes of the connection, then open it again.`
          : 'Compare the scopes of the connection with those opened to the client at the provider.',
      };
    }
    case 'unauthorized_client':
      return {
        title: 'The provider does not let this client ask.',
        evidence,
        side: 'client',
        remedy: 'Check at the provider that the client is of the right type and is published or approved.',
      };
    case 'temporarily_unavailable':
    case 'server_error':
      return { title: 'The provider had trouble of its own.', evidence, side: 'provider', remedy: `Wait a little. ${AGAIN}` };
    default:
      return { title: 'The provider sent the person back with an error.', evidence, side: 'provider', remedy: `Read its words. ${AGAIN}` };
  }
}

/** The token endpoint did not give tokens for the code. */
export function exchangeProblem(outcome: Exclude<TokenOutcome, { kind: 'tokens' }>, grantType: 'authorization_code' | 'client_credentials'): ConsentProblem {
  const evidence = evidenceText(outcome.evidence);
  if (grantType === 'client_credentials' && (outcome.kind === 'set_up_wrong' || outcome.kind === 'refused_grant'))
    return {
      title: 'The provider does not give this client a token of its own.',
      evidence,
      side: 'client',
      remedy:
        'Check at the provider that the client may use client credentials, that its scopes are opened to it, and that tenant and audience are right. Then open the connection again.',
    };
  switch (outcome.kind) {
    case 'client_refused':
      return {
        title: 'The provider refuses the client\u2019s id or secret.',
        evidence,
        side: 'client',
        remedy: `Enter the secret again, as the provider shows it (its value, not its name). ${AGAIN}`,
      };
    case 'refused_grant':
      return {
        title: 'The provider refuses the code.',
        evidence,
        side: 'provider',
        remedy: `A code is good once and for a short time, and only with the redirect URI it was made for. ${AGAIN}`,
      };
    case 'set_up_wrong':
      return {
        title: 'The provider does not understand the request for tokens.',
        evidence,
        side: 'client',
        remedy: 'Compare the provider definition with the provider\u2019s pages.',
      };
    case 'busy':
      return { title: 'The provider asked for patience, and a code does not wait.', evidence, side: 'provider', remedy: `Wait a little. ${AGAIN}` };
    case 'unsent':
      return {
        title: `The provider\u2019s token endpoint could not be reached: ${reasonInWords(outcome.evidence.reason ?? '')}.`,
        evidence,
        side: 'provider',
        remedy: `Nothing was sent. See whether the provider is down. ${AGAIN}`,
      };
    case 'unclear':
      return {
        title: `The provider did not answer the exchange: ${reasonInWords(outcome.evidence.reason ?? '')}.`,
        evidence,
        side: 'provider',
        remedy: `A code is never sent twice. ${AGAIN}`,
      };
    default:
      return outcome satisfies never;
  }
}
