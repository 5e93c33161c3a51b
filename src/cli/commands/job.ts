import { FORMATS } from '../../api/choices.ts';
import type { BodyOf } from '../../api/operations.ts';
import { followRun, saveResult } from '../collecting.ts';
import { EXIT } from '../exit.ts';
import { oneOf, whole } from '../options.ts';
import { relative } from '../print.ts';
import { noun, operation, task, verb } from '../row.ts';
import { failedWith, line, type Shown, text } from '../show.ts';
import { jobTable, runTable, shownJob, shownRun } from '../views/job.ts';
import { settingsFrom, withSettings } from './job-settings.ts';

const named = ({ args: [job] }: { args: [string, ...unknown[]] }) => ({ params: { job } });
const signingSecret = async (given: boolean | undefined): Promise<{ signing_secret?: string }> =>
  given ? { signing_secret: await (await import('../ask.ts')).secret('Signing secret') } : {};

/** A run that failed, or that is not complete, has an exit code of its own. */
function withOutcome(
  shown: Shown,
  { state, completeness, problem }: { state: string; completeness: { verdict: string } | null; problem: { says: string; remedy: string } | null },
): Shown {
  if (state === 'failed') return failedWith(shown, `The run failed: ${problem?.says ?? ''}\nWhat to do: ${problem?.remedy ?? ''}`);
  if (state === 'cancelled') return failedWith(shown, 'The run was cancelled.');
  return completeness?.verdict === 'incomplete' ? failedWith(shown, 'The result is incomplete. The earlier one stays in use.', EXIT.failed) : shown;
}

/** `rk job`: scheduled collections of records. */
export const job = () =>
  noun('job', 'collect records from APIs on a schedule', [
    task(
      withSettings(
        verb('add', 'add a job', 'rk job add berth-report --connection quay --path /bookings --every 120')
          .argument('<name>')
          .requiredOption('--connection <name>', 'the connection whose API is called'),
      ).option('--signing-secret', 'read a secret for signed POSTs from standard input'),
      async ({ args: [name], options, call }) => {
        const { connection, signingSecret: signs, ...given } = options;
        const body = { ...(await settingsFrom(given)), name, connection, ...(await signingSecret(signs)) } as BodyOf<'addJob'>;
        const added = await call('addJob', { body });
        const { name: _name, ...plannable } = body;
        delete plannable.signing_secret;
        const plan = await call('planJob', { body: plannable });
        const shown = shownJob(added);
        return {
          ...shown,
          parts: [...shown.parts, text(`${plan.says}${plan.next_runs[0] ? ` Next run ${relative(plan.next_runs[0])}.` : ` Run it: rk job run ${name}`}`)],
        };
      },
    ),
    operation(verb('list', 'list jobs', 'rk job list'), { calls: 'listJobs', shows: (answer) => ({ data: answer, parts: [jobTable(answer.items)] }) }),
    operation(verb('show', 'show a job', 'rk job show berth-report').argument('<name>'), { calls: 'showJob', input: named, shows: shownJob }),
    task(
      withSettings(verb('change', 'change a job', 'rk job change berth-report --every 60').argument('<name>')).option(
        '--signing-secret',
        'read a new secret from standard input',
      ),
      async ({ args: [name], options, call }) => {
        const { signingSecret: signs, ...given } = options;
        const before = await call('showJob', { params: { job: name } });
        const body = { ...(await settingsFrom(given, before.settings)), revision: before.revision, ...(await signingSecret(signs)) } as BodyOf<'changeJob'>;
        return shownJob(await call('changeJob', { params: { job: name }, body }));
      },
    ),
    operation(verb('remove', 'remove a job with its runs and results', 'rk job remove berth-report').argument('<name>'), {
      calls: 'removeJob',
      asks: async (given) => {
        const { latest, data_url: address } = await given.call('showJob', named(given));
        return `Remove the job ${given.args[0]}?${latest ? ` Its result of ${latest.records} records is removed, and ${address} stops answering.` : ' It has no result yet.'}`;
      },
      input: named,
      shows: (_done, { args: [name] }) => line(`Removed ${name}.`),
    }),
    task(
      verb('run', 'run a job now, and wait for the result', 'rk job run berth-report').argument('<name>').option('--no-wait', 'do not wait'),
      async ({ args: [name], options, call }) => {
        const started = await call('runJob', { params: { job: name } });
        const run = options.wait ? await followRun(call, started) : started;
        return withOutcome(shownRun(run), run);
      },
    ),
    task(verb('cancel', 'cancel the run of a job that is not finished', 'rk job cancel berth-report').argument('<name>'), async ({ args: [name], call }) => {
      const { last } = await call('showJob', { params: { job: name } });
      if (!last) return line('No run yet.');
      return shownRun(await call('cancelRun', { params: { run: last.id } }));
    }),
    task(
      verb('resume', 'go on with the last run, where it waits or failed', 'rk job resume berth-report').argument('<name>').option('--no-wait', 'do not wait'),
      async ({ args: [name], options, call }) => {
        const { last } = await call('showJob', { params: { job: name } });
        if (!last) return line('No run yet.');
        const resumed = await call('resumeRun', { params: { run: last.id } });
        const run = options.wait ? await followRun(call, resumed) : resumed;
        return withOutcome(shownRun(run), run);
      },
    ),
    operation(
      verb('runs', 'list runs of a job, newest first', 'rk job runs berth-report').argument('<name>').option('--limit <n>', 'how many', whole('--limit'), 20),
      {
        calls: 'listRuns',
        input: (given) => ({ ...named(given), query: { limit: given.options.limit } }),
        shows: (answer) => ({ data: answer, parts: [runTable(answer.items)] }),
      },
    ),
    task(
      verb('get', 'get the latest complete result: the file on standard output', 'rk job get berth-report --to bookings.csv')
        .argument('<name>')
        .addOption(oneOf('--format <format>', 'csv, ndjson or json', FORMATS).default('csv' as const))
        .option('--to <file>', 'write a file instead'),
      async ({ args: [name], options, rk }) => {
        const { download } = await import('../connect.ts');
        await saveResult(await download(rk, `/data/${encodeURIComponent(name)}/latest.${options.format}`), options.to);
        return options.to === undefined ? undefined : line(`Wrote ${options.to}.`);
      },
    ),
  ]);
