import { setTimeout as sleep } from 'node:timers/promises';
import type { ConsentOutcome } from '../../api/connections.ts';
import type { Diagnosis } from '../../api/diagnosis.ts';
import { HALF_LABELS, SIDE_LABELS, VERDICT_LABELS } from '../../api/vocabulary.ts';
import { EXIT, Outcome } from '../exit.ts';
import type { GlobalOptions } from '../options.ts';
import { printOne } from '../print.ts';

export const WAIT_MOST_MS = 31 * 60_000;
const LOOK_EVERY_MS = 700;

/** A diagnosis in a few lines: verdict, whose side, evidence, what else it could be. */
export function diagnosisLines(one: Diagnosis | null): string | null {
  if (!one) return null;
  const verdict = `${VERDICT_LABELS[one.verdict]}${one.half ? ` (${HALF_LABELS[one.half]})` : ''}: ${one.title}`;
  return [
    one.certain ? verdict : `${verdict} (the likeliest)`,
    ...one.evidence.map((line) => `seen: ${line}`),
    `to be fixed at: ${SIDE_LABELS[one.side]}`,
    ...(one.also.length > 0 ? [`or: ${one.also.join(' or: ')}`] : []),
  ].join('\n');
}

export const nothingCame = (): Outcome =>
  new Outcome(
    EXIT.later,
    'Nothing came back in half an hour.\nWhat to do: look at the page where the provider stopped, and let `rk connection explain` read it; then open the connection again.',
  );

export async function untilFinished(look: () => Promise<ConsentOutcome>): Promise<ConsentOutcome> {
  for (const endsAt = Date.now() + WAIT_MOST_MS; Date.now() < endsAt; await sleep(LOOK_EVERY_MS)) {
    const outcome = await look();
    if (outcome.phase === 'done' || outcome.phase === 'failed') return outcome;
  }
  throw nothingCame();
}

export async function showOutcome(all: GlobalOptions, outcome: ConsentOutcome): Promise<void> {
  const call = outcome.first_call;
  printOne(all, outcome, [
    ['Connection', outcome.connection],
    ['Moved to', outcome.problem ? null : outcome.moves_to],
    ['Agreed', outcome.account?.label],
    ['Opened', outcome.opened],
    ['Granted', outcome.scopes?.granted.join(' ')],
    ['Not granted', outcome.scopes?.missing.join(' ')],
    ['Refresh token', outcome.by_itself || outcome.refresh_token === null ? null : outcome.refresh_token ? 'came' : 'did not come'],
    ['Will it live', outcome.live?.says],
    ['First call', call ? `${call.method} ${call.url}: ${call.status ?? call.reason} in ${call.took_ms} ms\n${call.body.slice(0, 600)}` : null],
    ['Verdict', diagnosisLines(outcome.problem?.diagnosis ?? call?.diagnosis ?? null)],
    ['Waits', outcome.decide ? `not in use: rk connection switch ${outcome.connection} uses it, rk connection forget ${outcome.connection} forgets it` : null],
    ['Note', outcome.warnings.join('\n')],
  ]);
  if (outcome.problem)
    throw new Outcome(
      outcome.problem.side === 'person' ? EXIT.person : EXIT.failed,
      `${outcome.problem.title} ${outcome.problem.evidence ?? ''}\nWhat to do: ${outcome.problem.remedy}`,
    );
}
