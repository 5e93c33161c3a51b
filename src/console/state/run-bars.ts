import type { Run } from '../../api/jobs.ts';
import { COMPLETENESS_WORDS, RUN_WORDS } from '../../api/vocabulary.ts';

const FILL = { good: 'fill-success', warning: 'fill-warning', bad: 'fill-error', quiet: 'fill-base-300' } as const;
const SHOWN = 60;

export interface RunBar {
  number: number;
  /** Parts of the highest, 0 to 1. */
  records: number;
  seconds: number;
  tone: string;
  says: string;
}

/** Runs as bars, oldest first, with what the charts show in words. */
export function barsOf(newestFirst: readonly Pick<Run, 'number' | 'state' | 'records' | 'seconds' | 'completeness'>[]): {
  items: RunBar[];
  recordsNote: string;
  secondsNote: string;
} {
  const runs = newestFirst.slice(0, SHOWN).reverse();
  const most = (of: 'records' | 'seconds') => Math.max(1e-9, ...runs.map((run) => run[of]));
  const [records, seconds] = [most('records'), most('seconds')];
  const items = runs.map((run): RunBar => {
    const word = run.completeness ? COMPLETENESS_WORDS[run.completeness.verdict] : RUN_WORDS[run.state];
    return {
      number: run.number,
      records: run.records / records,
      seconds: run.seconds / seconds,
      tone: FILL[word.tone],
      says: `Run ${run.number}: ${run.records.toLocaleString('en-US')} records in ${run.seconds} s, ${word.label}`,
    };
  });
  const range = (of: 'records' | 'seconds', unit: string): string => {
    const values = runs.map((run) => run[of]);
    const [least, highest] = [Math.min(...values), Math.max(...values)];
    return least === highest
      ? `${highest.toLocaleString('en-US')}${unit} in each`
      : `${least.toLocaleString('en-US')} to ${highest.toLocaleString('en-US')}${unit}`;
  };
  return { items, recordsNote: runs.length === 0 ? 'no runs' : range('records', ''), secondsNote: runs.length === 0 ? 'no runs' : range('seconds', ' s') };
}
