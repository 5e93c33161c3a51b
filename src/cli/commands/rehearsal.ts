import { SCENARIOS } from '../../api/choices.ts';
import type { ApiClient } from '../../api/client.ts';
import type { Rehearsal, RehearsalShown } from '../../api/rehearsals.ts';
import { relative } from '../print.ts';
import { noun, operation, task, verb } from '../row.ts';
import { failedWith, line, list, type Shown, text } from '../show.ts';

const LOOK_MS = 500;
const WITHIN_MS = 35 * 60_000;
const NAMES = SCENARIOS.map((name) => name.replaceAll('_', '-'));

/** `rk rehearse SCENARIO`: plays it, waits, and prints the report. */
export const rehearse = () =>
  task(
    verb(
      'rehearse',
      `play a scenario on simulated providers and report what would be seen: ${NAMES.join(', ')}`,
      'rk rehearse provider-down --hits eelgrass --to report.md',
    )
      .argument('<scenario>', 'what goes wrong')
      .option('--provider <names...>', 'rehearse only these; default: all with connections')
      .option('--hits <provider>', 'where it goes wrong; default: the provider with most connections')
      .option('--act', 'with ninety-days: someone acts in time on each entry of Upcoming')
      .option('--to <file>', 'write the report to this file, as Markdown'),
    async ({ args: [scenario], options: { provider, hits, act, to }, call }) => {
      const { UsageError } = await import('../exit.ts');
      const named = SCENARIOS.find((name) => name === scenario.replaceAll('-', '_'));
      if (!named) throw new UsageError(`There is no scenario ${scenario}. Choose one of ${NAMES.join(', ')}.`);
      const body = { scenario: named, providers: provider ?? [], hits: hits ?? null, act: act === true };
      const ended = await follow(call, await call('startRehearsal', { body }));
      if (to !== undefined && ended.document !== null) {
        (await import('node:fs')).writeFileSync(to, ended.document);
        return line(`${ended.summary.join('\n')}\nThe report is in ${to}.`, ended);
      }
      return reported(ended);
    },
  );

async function follow(call: ApiClient, started: Rehearsal): Promise<RehearsalShown> {
  const says = ({ percent, doing }: Pick<Rehearsal, 'percent' | 'doing'>): string => `${percent} %  ${doing}`;
  const spinner = process.stderr.isTTY ? (await import('ora')).default({ text: says(started), discardStdin: false }).start() : null;
  const { attempts: looks } = await import('../../api/attempts.ts');
  const params = { rehearsal: started.id };
  try {
    for await (const _ of looks({ withinMs: WITHIN_MS, everyMs: LOOK_MS })) {
      const seen = await call('showRehearsal', { params });
      if (seen.state !== 'running') return seen;
      if (spinner) spinner.text = says(seen);
    }
    return await call('showRehearsal', { params });
  } finally {
    spinner?.stop();
  }
}

/** The report as it is attached; of what failed, why. */
const reported = (ended: RehearsalShown): Shown => {
  const shown: Shown = { data: ended, parts: [text(ended.document ?? `${ended.title}: ${ended.state}, ${ended.percent} %. ${ended.doing}`)] };
  return ended.state === 'failed' || ended.state === 'canceled' ? failedWith(shown, `The rehearsal was not played to its end. ${ended.doing}`) : shown;
};

/** `rk rehearsal`: what was played before. */
export const rehearsal = () =>
  noun('rehearsal', 'rehearsals and their reports', [
    operation(verb('list', 'list rehearsals, newest first', 'rk rehearsal list'), {
      calls: 'listRehearsals',
      shows: ({ items }) =>
        list(
          items,
          {
            SCENARIO: (each) => each.title,
            STATE: (each) => (each.state === 'running' ? `running, ${each.percent} %` : each.state),
            BY: (each) => each.started_by,
            STARTED: (each) => relative(each.started_at),
            OUTCOME: (each) => each.summary[0] ?? each.doing,
            ID: (each) => each.id,
          },
          'No rehearsals yet. Play one: rk rehearse provider-down',
        ),
    }),
    operation(verb('show', 'show the report of a rehearsal', 'rk rehearsal show 01a22508-d38d-711c-841b-4b3507b84f23').argument('<id>'), {
      calls: 'showRehearsal',
      input: ({ args: [id] }) => ({ params: { rehearsal: id } }),
      shows: (each) => ({ data: each, parts: reported(each).parts }),
    }),
    operation(verb('cancel', 'cancel a rehearsal that is running', 'rk rehearsal cancel 01a22508-d38d-711c-841b-4b3507b84f23').argument('<id>'), {
      calls: 'cancelRehearsal',
      input: ({ args: [id] }) => ({ params: { rehearsal: id } }),
      shows: (each) => line(`${each.title}: ${each.state}.`, each),
    }),
  ]);
