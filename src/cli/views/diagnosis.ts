import type { Diagnosis } from '../../api/diagnosis.ts';
import { HALF_LABELS, SIDE_LABELS, VERDICT_LABELS } from '../../api/vocabulary.ts';

/** A diagnosis in a few lines: verdict, evidence, which side to fix, what else it could be. */
export function diagnosisLines(one: Diagnosis | null): string | null {
  if (!one) return null;
  const verdict = `${VERDICT_LABELS[one.verdict]}${one.half ? ` (${HALF_LABELS[one.half]})` : ''}: ${one.title}`;
  return [
    one.certain ? verdict : `${verdict} (most likely)`,
    ...one.evidence.map((line) => `seen: ${line}`),
    `to be fixed at: ${SIDE_LABELS[one.side]}`,
    ...(one.also.length > 0 ? [`or: ${one.also.join(' or: ')}`] : []),
  ].join('\n');
}
