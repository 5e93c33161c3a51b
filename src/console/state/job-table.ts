import type { Job } from '../../api/jobs.ts';
import { type Column, TableState } from '../ui/table.svelte.ts';

const NEVER = '9';

export const JOB_COLUMNS: readonly Column<Job>[] = [
  { key: 'name', label: 'Job', sortBy: (job) => job.name, class: 'font-semibold' },
  { key: 'connection', label: 'Connection', sortBy: (job) => job.connection },
  { key: 'schedule', label: 'Schedule', sortBy: (job) => job.schedule_says },
  { key: 'next', label: 'Next run', sortBy: (job) => job.next_run_at ?? NEVER, class: 'lg:w-24' },
  { key: 'state', label: 'Last run', sortBy: (job) => job.last?.state ?? '' },
  { key: 'verdict', label: 'Verdict', sortBy: (job) => job.last?.completeness?.verdict ?? '' },
  { key: 'records', label: 'Records', sortBy: (job) => job.latest?.records ?? 0, class: 'lg:w-24 lg:text-right tabular-nums' },
  { key: 'collected', label: 'Collected', sortBy: (job) => job.latest?.at ?? '', class: 'lg:w-28' },
];

export const jobTable = (): TableState<Job> => new TableState(JOB_COLUMNS, (job) => job.name);
