import type { ConsentOutcome } from '../../api/connections.ts';
import type { Diagnosis } from '../../core/diagnosis/diagnosis.ts';

export type ConsentProblem = NonNullable<ConsentOutcome['problem']>;
const AGAIN = 'Open the connection again.';

/** What is said of a consent that never finished, by the phase in which it stayed. */
export const STALE_PROBLEMS: Record<string, ConsentProblem> = {
  offered: { title: 'The link was not used in time.', evidence: null, side: 'person', remedy: AGAIN },
  started: {
    title: 'Nothing came back from the provider.',
    evidence: null,
    side: 'client',
    remedy:
      'Look at the page where the provider stopped: compare the redirect URI and the client id registered at the provider. Then open the connection again.',
  },
  polling: { title: 'Nobody entered the code in time.', evidence: null, side: 'person', remedy: AGAIN },
  exchanging: { title: 'The service stopped while it exchanged the code.', evidence: null, side: 'ours', remedy: `A code is never sent twice. ${AGAIN}` },
  verifying: {
    title: 'The service stopped before the first call.',
    evidence: null,
    side: 'ours',
    remedy: 'The tokens are kept. Try the call from the page of the connection.',
  },
};

/** Another consent used the same invitation up: what this one brought is not taken. */
export const INVITATION_USED: ConsentProblem = {
  title: 'The invitation was used already.',
  evidence: null,
  side: 'person',
  remedy: 'Ask the application for a new link.',
};

/** A diagnosis as a consent's problem. */
export const problemOf = (diagnosis: Diagnosis): ConsentProblem => ({
  title: diagnosis.title,
  evidence: diagnosis.evidence.join(' ') || null,
  side: diagnosis.side,
  remedy: diagnosis.remedy,
  diagnosis,
});
