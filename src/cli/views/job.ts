import type { Job, Run } from '../../api/jobs.ts';
import { COMPLETENESS_WORDS, RUN_WORDS } from '../../api/vocabulary.ts';
import { relative } from '../print.ts';
import { type Cell, one, type Part, type Shown, table, worded } from '../show.ts';

export const records = (run: Pick<Run, 'records' | 'total'>): string =>
  run.total === null ? run.records.toLocaleString('en-US') : `${run.records.toLocaleString('en-US')} of ${run.total.toLocaleString('en-US')}`;

const verdict = (run: Run): Cell => (run.completeness ? worded(COMPLETENESS_WORDS[run.completeness.verdict]) : '\u2013');

export const shownJob = (job: Job): Shown =>
  one(job, [
    ['Job', job.name],
    ['Title', job.settings.title],
    ['Connection', `${job.connection}${job.provider ? ` (${job.provider})` : ''}`],
    ['Call', job.settings.saved ?? `${job.settings.call?.method ?? 'GET'} ${job.settings.call?.path ?? ''}`],
    ['Paging', job.paging_says],
    ['Schedule', job.settings.enabled ? job.schedule_says : `${job.schedule_says}, off`],
    ['Next run', job.next_run_at === null ? 'by hand' : relative(job.next_run_at)],
    ['Last run', job.last ? `${job.last.number}: ${RUN_WORDS[job.last.state].label}, ${relative(job.last.started_at)}` : 'none yet'],
    ['Result', job.latest ? `${job.latest.records.toLocaleString('en-US')} records, run ${job.latest.run}, ${relative(job.latest.at)}` : 'none yet'],
    ['Address', job.data_url],
    ['Columns', job.settings.layout.columns.map((column) => (column.title ? `${column.field} as ${column.title}` : column.field)).join(', ') || 'all'],
    ['Personal', job.settings.personal.map((field) => `${field.field}: ${field.rule}`).join(', ')],
    ['Only new', job.settings.since === null ? null : `${job.settings.since.kind.replaceAll('_', ' ')}, ${job.settings.result}`],
    ['Delivered to', job.settings.deliver.map((target) => (target.kind === 'file' ? `file ${target.name}` : `POST ${target.url}`)).join('\n')],
    ['Signing secret', job.has_signing_secret ? 'set' : null],
    ['Revision', String(job.revision)],
  ]);

export function shownRun(run: Run): Shown {
  const shown = one(run, [
    ['Run', run.job === null ? 'by hand' : `${run.job} ${run.number}`],
    ['State', worded(RUN_WORDS[run.state])],
    ['Waits', run.waits ? `${run.waits.says} Until ${relative(run.waits.until)}.` : null],
    ['Records', records(run)],
    ['Doubles', run.doubles > 0 ? `${run.doubles} removed` : null],
    ['Verdict', run.completeness ? verdict(run) : null],
    ['Evidence', run.completeness?.evidence.map((each) => `${MARKS[each.side]} ${each.says}`).join('\n')],
    ['Pages', `${run.pages} pages, ${run.calls} calls, ${run.seconds} s`],
    ['Failed', run.problem ? run.problem.says : null],
    ['What to do', run.problem ? run.problem.remedy : null],
    ['Deliveries', run.deliveries.map((each) => `${each.target}: ${each.state}. ${each.says}`).join('\n')],
    ['ID', run.id],
  ]);
  return shown;
}
const MARKS = { for: '\u2713', against: '\u2717', note: '\u00b7' } as const;

export const runTable = (runs: readonly Run[]): Part =>
  table(
    runs,
    {
      RUN: (run) => String(run.number),
      STARTED: (run) => relative(run.started_at),
      STATE: (run) => worded(RUN_WORDS[run.state]),
      RECORDS: (run) => records(run),
      VERDICT: verdict,
      PAGES: (run) => String(run.pages),
      SECONDS: (run) => String(run.seconds),
      NOTE: (run) => run.problem?.says ?? run.waits?.says ?? '',
    },
    'No runs yet.',
  );

export const jobTable = (jobs: readonly Job[]): Part =>
  table(
    jobs,
    {
      NAME: (job) => job.name,
      CONNECTION: (job) => job.connection,
      SCHEDULE: (job) => (job.settings.enabled ? job.schedule_says : 'off'),
      NEXT: (job) => (job.next_run_at === null ? '\u2013' : relative(job.next_run_at)),
      'LAST RUN': (job) => (job.last ? worded(RUN_WORDS[job.last.state]) : '\u2013'),
      VERDICT: (job) => (job.last ? verdict(job.last) : '\u2013'),
      RECORDS: (job) => (job.latest ? job.latest.records.toLocaleString('en-US') : '\u2013'),
    },
    'No jobs yet. Add one: rk job add NAME --connection CONNECTION --path /things --every 60',
  );
