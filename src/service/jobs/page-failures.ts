import type { Diagnosis } from '../../api/diagnosis.ts';
import type { RunProblem } from '../../api/jobs.ts';
import type { Fault, FaultCode } from '../../core/fault.ts';
import type { PageFailure } from '../../core/jobs/failure.ts';
import type { Fetched } from '../grants/index.ts';

/** Errors inside a good status count as what the diagnosis takes them for. */
export const errorStatus = ({ status, diagnosis }: Extract<Fetched, { kind: 'page' }>): number => {
  if (status >= 300 || diagnosis === null) return status;
  if (diagnosis.cause === 'quota_used_up' || diagnosis.cause === 'provider_busy') return 429;
  return diagnosis.verdict === 'token_refused' ? 401 : diagnosis.cause === 'provider_down' ? 503 : 400;
};

export const problem = (code: string, says: string, remedy: string, diagnosis: Diagnosis | null = null): RunProblem => ({ code, says, remedy, diagnosis });

/** What a person reads of a page that did not come. */
export function problemOf(failure: PageFailure, diagnosis: Diagnosis | null): RunProblem {
  const says =
    failure.kind === 'status'
      ? `The provider answered ${failure.status}.`
      : failure.kind === 'unreadable'
        ? 'The response is not JSON.'
        : `The provider did not answer${failure.kind === 'no_answer' ? ` (${failure.reason})` : ''}.`;
  return problem(
    'PAGE_FAILED',
    diagnosis ? `${says} ${diagnosis.title}.` : says,
    diagnosis?.remedy ?? 'Make the call in Test call, and fix what it shows. Then run it again.',
    diagnosis,
  );
}

/** The connection cannot be called: what a person must fix is waited for, what passes is tried again. */
const ACTION: readonly FaultCode[] = [
  'GRANT_REFUSED',
  'CONNECTION_NOT_CONSENTED',
  'CONNECTION_PAUSED',
  'REVOKED',
  'ORIGIN_UNCONFIRMED',
  'CLIENT_STOPPED',
  'INSTALLATION_HELD',
];

export const isActionNeeded = ({ code }: Fault): boolean => ACTION.includes(code);
