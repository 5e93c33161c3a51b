/** Why a page did not come. */
export type PageFailure =
  | { kind: 'quota'; waitMs: number }
  | { kind: 'status'; status: number; retryAfterMs: number | null }
  | { kind: 'no_answer'; reason: string }
  | { kind: 'unreadable' }
  | { kind: 'action' }
  | { kind: 'busy'; retryAfterMs: number | null };

/** What a run does after it: waits and asks for the same page again, or fails. */
export type Turn = { wait: number; says: string; isAction?: true } | { fail: true };

const FIRST_MS = 1_000;
const MOST_MS = 300_000;
/** About three hours of failures in a row. */
const MAX_TRIES = 40;
/** A rejected token was renewed once already: a few more tries, then a person must look. */
const REJECTED_TRIES = 3;
const ACTION_LOOK_MS = 30_000;
const MAX_PATIENCE_MS = 3_600_000;

const backOff = (tries: number): number => Math.min(MOST_MS, FIRST_MS * 2 ** Math.min(tries, 12));

/** @param tries failures in a row before this one */
export function afterFailure(failure: PageFailure, tries: number): Turn {
  switch (failure.kind) {
    case 'quota':
      return { wait: failure.waitMs, says: 'The quota is used up. The run continues when it resets.' };
    case 'action':
      return { wait: ACTION_LOOK_MS, says: 'The connection needs action. The run continues when it works again.', isAction: true };
    case 'busy':
      return tries >= MAX_TRIES
        ? { fail: true }
        : { wait: Math.max(failure.retryAfterMs ?? 0, backOff(tries)), says: 'No token can be issued now. The run retries.' };
    case 'no_answer':
      return tries >= MAX_TRIES ? { fail: true } : { wait: backOff(tries), says: `The provider did not answer (${failure.reason}). The run retries.` };
    case 'unreadable':
      return tries >= REJECTED_TRIES ? { fail: true } : { wait: backOff(tries), says: 'The response is not JSON. The run retries.' };
    case 'status':
      return afterStatus(failure, tries);
  }
}

function afterStatus({ status, retryAfterMs }: Extract<PageFailure, { kind: 'status' }>, tries: number): Turn {
  if (status === 429 || (status === 503 && retryAfterMs !== null))
    return tries >= MAX_TRIES
      ? { fail: true }
      : { wait: Math.min(MAX_PATIENCE_MS, retryAfterMs ?? backOff(tries + 3)), says: `The provider asked to wait (${status}).` };
  if (status >= 500 || status === 408 || status === 425)
    return tries >= MAX_TRIES ? { fail: true } : { wait: backOff(tries), says: `The provider failed (${status}). The run retries.` };
  if (status === 401)
    return tries >= REJECTED_TRIES
      ? { fail: true }
      : { wait: backOff(tries + 2), says: 'The provider rejected the token (401). The run retries with a renewed one.' };
  return { fail: true };
}
