import { z } from 'zod';
import { AddJob, ChangeJob, Collect, Job, JobPlan, JobSettings, OwnJob, PlanJob, Preview, Recognize, Recognized, Run } from './jobs.ts';
import { Done, list, type Operation } from './operation.ts';

const RunsQuery = z.object({
  limit: z.coerce.number().int().min(1).max(500).default(50),
  before: z.coerce.number().int().min(1).optional().describe('The number of the last run shown'),
});
const PreviewQuery = z.object({ limit: z.coerce.number().int().min(1).max(500).default(100) });

/** Jobs, their runs, and collections by hand. */
export const jobOperations = {
  recognizePaging: {
    method: 'POST',
    path: '/api/v1/connections/{connection}/paging',
    access: 'operator',
    says: 'Make a call once, and recognize how its list is paged, with evidence',
    body: Recognize,
    answer: Recognized,
  },
  collect: {
    method: 'POST',
    path: '/api/v1/connections/{connection}/collections',
    access: 'operator',
    says: 'Collect all pages of a call once; the result is kept for a day',
    body: Collect,
    answer: Run,
  },
  listJobs: { method: 'GET', path: '/api/v1/jobs', access: 'operator', says: 'List jobs', answer: list(Job) },
  planJob: {
    method: 'POST',
    path: '/api/v1/jobs/plan',
    access: 'operator',
    says: 'Before saving: the next five runs, the calls in each, and the share of the quota',
    body: PlanJob,
    answer: JobPlan,
  },
  addJob: { method: 'POST', path: '/api/v1/jobs', access: 'operator', says: 'Add a job', body: AddJob, answer: Job },
  showJob: { method: 'GET', path: '/api/v1/jobs/{job}', access: 'operator', says: 'Show a job', answer: Job },
  changeJob: {
    method: 'PATCH',
    path: '/api/v1/jobs/{job}',
    access: 'operator',
    says: 'Replace the settings of a job; the signing secret stays unless a new one is sent',
    body: ChangeJob,
    answer: Job,
  },
  showJobValues: {
    method: 'POST',
    path: '/api/v1/jobs/{job}/values',
    access: 'operator',
    says: 'Show the settings of a job with the values that may be secrets; written to Activity',
    answer: JobSettings,
    unmasked: true,
  },
  removeJob: { method: 'DELETE', path: '/api/v1/jobs/{job}', access: 'operator', says: 'Remove a job with its runs and results', answer: Done },
  runJob: { method: 'POST', path: '/api/v1/jobs/{job}/runs', access: 'operator', says: 'Run a job now', answer: Run },
  listRuns: {
    method: 'GET',
    path: '/api/v1/jobs/{job}/runs',
    access: 'operator',
    says: 'List runs of a job, newest first',
    query: RunsQuery,
    answer: list(Run),
  },
  showRun: { method: 'GET', path: '/api/v1/runs/{run}', access: 'operator', says: 'Show a run', answer: Run },
  cancelRun: { method: 'POST', path: '/api/v1/runs/{run}/cancel', access: 'operator', says: 'Cancel a run; what it collected is discarded', answer: Run },
  resumeRun: {
    method: 'POST',
    path: '/api/v1/runs/{run}/resume',
    access: 'operator',
    says: 'Go on now with a run that waits, or with one that failed',
    answer: Run,
  },
  previewRun: {
    method: 'GET',
    path: '/api/v1/runs/{run}/records',
    access: 'operator',
    says: 'The first records of a run, as a table',
    query: PreviewQuery,
    answer: Preview,
  },
  listOwnJobs: {
    method: 'GET',
    path: '/api/v1/own/jobs',
    access: 'caller',
    says: 'List jobs on the caller\u2019s connections, and where their results are fetched',
    answer: list(OwnJob),
  },
} as const satisfies Record<string, Operation>;
