import type { ConsentOutcome } from '../../api/connections.ts';
import { EXIT } from '../exit.ts';
import { failedWith, one, type Shown } from '../show.ts';
import { diagnosisLines } from './diagnosis.ts';

const MAX_BODY = 600;

/** How a consent went; one that failed sets the exit code. */
export function shownOutcome(outcome: ConsentOutcome): Shown {
  const { first_call: call, problem } = outcome;
  const shown = one(outcome, [
    ['Connection', outcome.connection],
    ['Moved to', problem ? null : outcome.moves_to],
    ['Consented', outcome.account?.label],
    ['Opened', outcome.opened],
    ['Granted', outcome.scopes?.granted.join(' ')],
    ['Not granted', outcome.scopes?.missing.join(' ')],
    ['Refresh token', outcome.by_itself || outcome.refresh_token === null ? null : outcome.refresh_token ? 'received' : 'not received'],
    ['Expiration', outcome.lifetime?.says],
    ['First call', call ? `${call.method} ${call.url}: ${call.status ?? call.reason} in ${call.took_ms} ms\n${call.body.slice(0, MAX_BODY)}` : null],
    ['Verdict', diagnosisLines(problem?.diagnosis ?? call?.diagnosis ?? null)],
    [
      'Standby',
      outcome.decide ? `not in use. Use it: rk connection switch ${outcome.connection}. Discard it: rk connection discard ${outcome.connection}` : null,
    ],
    ['Note', outcome.warnings.join('\n')],
  ]);
  if (!problem) return shown;
  const said = `${problem.title} ${problem.evidence ?? ''}\nWhat to do: ${problem.remedy}`;
  return failedWith(shown, said, problem.side === 'person' ? EXIT.person : EXIT.failed);
}
