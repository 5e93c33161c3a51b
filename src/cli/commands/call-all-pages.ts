import type { FORMATS } from '../../api/choices.ts';
import type { ApiClient } from '../../api/client.ts';
import type { BodyOf } from '../../api/operations.ts';
import { COMPLETENESS_WORDS } from '../../api/vocabulary.ts';
import { followRun, saveResult } from '../collecting.ts';
import { UsageError } from '../exit.ts';
import type { GlobalOptions } from '../options.ts';
import { plain } from '../plain.ts';
import { agreed } from '../row.ts';
import { failedWith, type Shown } from '../show.ts';
import { records } from '../views/job.ts';

interface Options {
  paging?: Promise<Record<string, unknown>>;
  columns?: { field: string; title?: string }[];
  days?: number;
  format: (typeof FORMATS)[number];
  to?: string;
  yes?: true;
}
type Collection = BodyOf<'collect'>;

const note = (said: string): boolean => process.stderr.write(`${plain(said)}\n`);

/** Collects all pages: the records go to standard output or to a file, everything else to standard error. Undefined: the answer was no. */
export async function allPages(
  { api, rk }: { api: ApiClient; rk: GlobalOptions },
  connection: string,
  what: Pick<Collection, 'call' | 'saved' | 'values'>,
  options: Options,
): Promise<Shown | undefined> {
  const body: Collection = {
    ...what,
    ...(options.columns === undefined ? {} : { layout: { columns: options.columns } }),
    ...(options.days === undefined ? {} : { range: { days: options.days } }),
    ...(options.paging === undefined ? {} : { paging: (await options.paging) as never }),
  };
  const paging = body.paging ?? (await recognized(api, connection, body, options.yes));
  if (paging === 'no') return undefined;
  const started = await api('collect', { params: { connection }, body: { ...body, ...(paging === null ? {} : { paging }) } });
  const run = await followRun(api, started);
  if (run.state !== 'done')
    return failedWith({ parts: [] }, `The run ${run.state}: ${run.problem?.says ?? ''}\nWhat to do: ${run.problem?.remedy ?? 'Start it again.'}`);
  const { download } = await import('../connect.ts');
  await saveResult(await download(rk, `/api/v1/runs/${run.id}/result.${options.format}`), options.to);
  const { verdict, evidence } = run.completeness ?? { verdict: 'cannot_tell' as const, evidence: [] };
  note(`${records(run)} records in ${run.calls} calls, ${run.seconds} s: ${COMPLETENESS_WORDS[verdict].label}. ${evidence.map((one) => one.says).join(' ')}`);
  return verdict === 'incomplete' ? failedWith({ parts: [] }, 'The result is incomplete.') : undefined;
}

/** The recognized way of paging, once someone confirmed it; null: the definition states it. */
async function recognized(api: ApiClient, connection: string, body: Collection, yes: true | undefined): Promise<Collection['paging'] | null | 'no'> {
  const found = await api('recognizePaging', { params: { connection }, body });
  if (found.declared) {
    note(`Paging: ${found.declared.style.replaceAll('_', ' ')}, as the definition states.`);
    return null;
  }
  const [guess] = found.guesses;
  if (!guess) throw new UsageError('No paging was recognized. State it with --paging.');
  note(`Paging recognized: ${guess.says} (${guess.confidence}).\n${guess.evidence.map((one) => `  ${one}`).join('\n')}`);
  return (await agreed(yes ? { yes } : {}, 'Follow it?')) ? guess.plan : 'no';
}
