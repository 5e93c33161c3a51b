import type { Cause } from '../../core/notices/notice.ts';
import { RunOutcome } from '../store/run-documents.ts';
import type { NoticeParts } from './parts.ts';
import { PLAIN } from './plain-cause.ts';

type Run = Awaited<ReturnType<NoticeParts['store']['noticeFacts']['lastRuns']>>[number];

const causeOf = (run: Run, what: string, shown: Pick<Cause, 'severity' | 'title' | 'evidence' | 'remedy'>): Cause => ({
  ...PLAIN,
  key: `job:${run.job}:${what}`,
  kind: 'job',
  subject: `job:${run.job}`,
  ...shown,
  page: `/jobs/${run.job}`,
  command: `rk job runs ${run.job}`,
  labels: run.labels,
  count: 1,
});

/** By the last run that ended: a good one ends it. */
export async function jobCauses(s: NoticeParts): Promise<Cause[]> {
  return (await s.store.noticeFacts.lastRuns()).flatMap((run): Cause[] => {
    const read = run.outcome === null ? null : RunOutcome.safeParse(JSON.parse(run.outcome));
    const { problem, completeness } = read?.success ? read.data : { problem: null, completeness: null };
    const name = `Run ${run.number} of ${run.job}`;
    if (run.state === 'failed') {
      const remedy = problem?.remedy ?? 'Run it again, and read why it failed.';
      return [causeOf(run, 'failed', { severity: 'action', title: `${name} failed`, evidence: problem?.says ?? '', remedy })];
    }
    const evidence = completeness?.evidence.find((one) => one.side === 'against')?.says ?? '';
    if (completeness?.verdict === 'incomplete') {
      const remedy = 'Run it again. The last complete result is still served.';
      return [causeOf(run, 'incomplete', { severity: 'action', title: `${name} is not complete`, evidence, remedy })];
    }
    if (!completeness?.deviates) return [];
    const remedy = 'Compare it with the run before. A new complete run of similar size closes this.';
    return [causeOf(run, 'deviates', { severity: 'warning', title: `${name} brought a very different number of records`, evidence, remedy })];
  });
}
