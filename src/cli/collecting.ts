import type { ApiClient } from '../api/client.ts';
import type { Run } from '../api/jobs.ts';
import { records } from './views/job.ts';

const LOOK_MS = 250;
const BAR = 24;
/** A run may wait for days until someone reconnects: so long a command waits for it. */
const MAX_WAIT_MS = 24 * 3_600_000;

/** One line: a bar where the total is known, the count, the rate, and the time left. */
function progressLine(run: Pick<Run, 'records' | 'total' | 'pages' | 'seconds' | 'waits'>): string {
  if (run.waits) return `${records(run)} records. ${run.waits.says}`;
  const rate = run.seconds > 0 ? run.records / run.seconds : 0;
  const part = run.total !== null && run.total > 0 ? Math.min(1, run.records / run.total) : null;
  const bar = part === null ? '' : `[${'='.repeat(Math.round(part * BAR)).padEnd(BAR)}] ${Math.round(part * 100)} %  `;
  const left = part === null || rate === 0 || run.total === null ? '' : `, ${Math.ceil(Math.max(0, run.total - run.records) / rate)} s left`;
  return `${bar}${records(run)} records, ${run.pages} pages, ${Math.round(rate)}/s${left}`;
}

/** Waits until a run has ended, with a progress bar on a terminal's standard error. */
export async function followRun(api: ApiClient, started: Run): Promise<Run> {
  const spinner = process.stderr.isTTY ? (await import('ora')).default({ text: progressLine(started), discardStdin: false }).start() : null;
  const { attempts: looks } = await import('../api/attempts.ts');
  let run = started;
  try {
    for await (const _ of looks({ withinMs: MAX_WAIT_MS, everyMs: LOOK_MS })) {
      if (run.state !== 'running' && run.state !== 'waiting') return run;
      run = await api('showRun', { params: { run: run.id } });
      if (spinner) spinner.text = progressLine(run);
    }
    return run;
  } finally {
    spinner?.stop();
  }
}

/** Writes a result to a file, whole by rename, or to standard output. */
export async function saveResult(stream: ReadableStream<Uint8Array>, to: string | undefined): Promise<void> {
  const { Readable } = await import('node:stream');
  await deliver(Readable.fromWeb(stream as import('node:stream/web').ReadableStream), to);
}

/** Writes a stream to a file, whole by rename, or to standard output. */
export async function deliver(body: import('node:stream').Readable, to: string | undefined): Promise<void> {
  const { pipeline } = await import('node:stream/promises');
  if (to === undefined || to === '-') {
    await pipeline(body, process.stdout, { end: false });
    return;
  }
  const { createWriteStream, renameSync, rmSync } = await import('node:fs');
  const beside = `${to}.part`;
  try {
    await pipeline(body, createWriteStream(beside));
    renameSync(beside, to);
  } catch (error) {
    rmSync(beside, { force: true });
    throw error;
  }
}
