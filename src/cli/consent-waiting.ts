import { attempts } from '../api/attempts.ts';
import type { ConsentOutcome } from '../api/connections.ts';
import { EXIT, Outcome } from './exit.ts';

/** How long a person may take: a consent is good for half an hour. */
export const MAX_WAIT_MS = 31 * 60_000;
const LOOK_EVERY_MS = 700;

export const nothingCame = (): Outcome =>
  new Outcome(
    EXIT.later,
    'No answer arrived within half an hour.\nWhat to do: look at the page on which the provider stopped and paste its text into `rk connection explain`; then open the connection again.',
  );

/** Looks until the consent is finished. @throws {Outcome} after half an hour. */
export async function untilFinished(look: () => Promise<ConsentOutcome>): Promise<ConsentOutcome> {
  for await (const _ of attempts({ withinMs: MAX_WAIT_MS, everyMs: LOOK_EVERY_MS })) {
    const outcome = await look();
    if (outcome.phase === 'done' || outcome.phase === 'failed') return outcome;
  }
  throw nothingCame();
}
