import { createWriteStream } from 'node:fs';
import { mkdir, open, realpath, rename, rm } from 'node:fs/promises';
import { dirname, join, sep } from 'node:path';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { createGzip } from 'node:zlib';
import type { DeliveryTarget } from '../../api/jobs.ts';
import { fileNameOf } from '../../core/jobs/file-names.ts';
import { MEDIA_TYPES } from '../../core/output/formats.ts';
import { postWebhook } from '../outgoing/index.ts';
import type { JobRow } from '../store/jobs.ts';
import type { DeliveryRow } from '../store/run-deliveries.ts';
import type { RunRow } from '../store/runs.ts';
import { fileTaken } from './file-owners.ts';
import type { JobParts } from './parts.ts';
import { textOf } from './results.ts';

const CLAIM_MS = 120_000;
const POST_DEADLINE_MS = 60_000;
/** A result is one request body here: a larger one is fetched from its address. */
const MAX_POST_BYTES = 20_000_000;
const FIRST_MS = 5_000;
const MOST_MS = 3_600_000;
/** A day and a half in all. */
const MAX_TRIES = 40;

export const targetInWords = (target: DeliveryTarget): string => (target.kind === 'file' ? `file ${target.name}` : `POST ${new URL(target.url).host}`);

/** Delivers what is due, each by one replica. */
export async function deliverDue(s: JobParts, stop: AbortSignal): Promise<void> {
  for (const row of await s.store.runs.dueDeliveries(20)) {
    if (stop.aborted) return;
    if (await s.store.runs.claimDelivery(row, CLAIM_MS)) await deliver(s, row);
  }
}

async function deliver(s: JobParts, row: DeliveryRow): Promise<void> {
  const run = await s.store.runs.byId(row.runId);
  const job = run?.jobId ? await s.store.jobs.byId(run.jobId) : null;
  const now = s.ports.clock.now();
  if (!run || !job) return s.store.runs.changeDelivery({ ...row, state: 'failed', says: 'The job or its run was removed.', nextAt: now });
  const tries = row.tries + 1;
  const outcome = await attempt(s, run.plan.deliver[row.target] ?? row.settings, run, job);
  if (outcome.done) {
    await s.store.runs.changeDelivery({ ...row, state: 'delivered', tries, says: outcome.says, nextAt: now });
    return;
  }
  const isOver = outcome.isFinal || tries >= MAX_TRIES;
  const waitMs = Math.max(outcome.retryAfterMs ?? 0, Math.min(MOST_MS, FIRST_MS * 2 ** Math.min(tries - 1, 12)));
  await s.store.runs.changeDelivery({ ...row, state: isOver ? 'failed' : 'waiting', tries, says: outcome.says, nextAt: now + waitMs });
  if (isOver)
    s.history.add({
      actor: 'service',
      kind: 'delivery_failed',
      subject: `job:${job.name}`,
      says: `Run ${run.number}: ${targetInWords(row.settings)} failed. ${outcome.says}`,
    });
}

type Attempted = { done: true; says: string } | { done: false; says: string; isFinal?: boolean; retryAfterMs?: number | null };

async function attempt(s: JobParts, target: DeliveryTarget, run: RunRow, job: JobRow): Promise<Attempted> {
  try {
    return target.kind === 'file' ? await writeFile(s, target, run, job) : await post(s, target, run, job);
  } catch (error) {
    const code = (error as NodeJS.ErrnoException).code ?? 'unknown';
    return { done: false, says: FILE_WORDS.get(code) ?? `It failed: ${code}.` };
  }
}

const FILE_WORDS = new Map([
  ['ENOSPC', 'The disk is full. The earlier file is untouched. Free space; the delivery is retried.'],
  ['EDQUOT', 'The disk quota is used up. The earlier file is untouched. Free space; the delivery is retried.'],
  ['EACCES', 'The output folder is not writable for the service. Change its owner or mode; the delivery is retried.'],
  ['EPERM', 'The output folder is not writable for the service. Change its owner or mode; the delivery is retried.'],
  ['EROFS', 'The output folder is read-only. The delivery is retried.'],
  ['ENOENT', 'The output folder does not exist. Create it; the delivery is retried.'],
  ['ENOTDIR', 'A part of the file\u2019s path is a file, not a folder. Rename one of the two; the delivery is retried.'],
  ['EISDIR', 'A folder has the name of the file. Rename one of the two; the delivery is retried.'],
]);

/** Written beside its final name, flushed to disk, then renamed: nobody sees half a file. */
async function writeFile(s: JobParts, target: Extract<DeliveryTarget, { kind: 'file' }>, run: RunRow, job: JobRow): Promise<Attempted> {
  const folder = s.settings.outputFolder;
  if (folder === null) return { done: false, isFinal: true, says: 'No output folder is set. Set RUSTY_KETTLE_OUTPUT_FOLDER, and run the job again.' };
  const name = fileNameOf(target.name, { job: job.name, run: run.number, at: run.startedAt });
  // A job saved beside another one in the same moment: the file stays with the job that was there first.
  if (await fileTaken(s, job, [target], 'earlier')) return { done: false, isFinal: true, says: `Another job delivers to ${name}. Choose another name.` };
  const root = await realpath(folder);
  const path = join(root, name);
  if (!(await makeFolder(root, dirname(name)))) return { done: false, isFinal: true, says: 'The name leads outside the output folder.' };
  const beside = `${path}.${run.id}.part`;
  try {
    const text = Readable.from(pieces(s, run, target.format));
    const file = createWriteStream(beside, { mode: 0o640 });
    await (target.gzip ? pipeline(text, createGzip(), file) : pipeline(text, file));
    const handle = await open(beside, 'r+');
    await handle.sync().finally(() => handle.close());
    await rename(beside, path);
  } catch (error) {
    await rm(beside, { force: true });
    throw error;
  }
  return { done: true, says: `Written to ${name}.` };
}

/** Makes the folders of a name one by one: a link on the way may lead out of the output folder. False: one does, and nothing was made there. */
async function makeFolder(root: string, below: string): Promise<boolean> {
  let at = root;
  for (const part of below === '.' ? [] : below.split('/')) {
    at = join(at, part);
    await mkdir(at).catch((error: NodeJS.ErrnoException) => {
      if (error.code !== 'EEXIST') throw error;
    });
    const led = await realpath(at);
    if (led !== root && !led.startsWith(`${root}${sep}`)) return false;
  }
  return true;
}

async function* pieces(s: JobParts, run: RunRow, format: DeliveryTarget['format']): AsyncGenerator<string> {
  for await (const { text } of textOf(s.store.runs, run, format)) if (text !== '') yield text;
}

/** A POST of the whole result, signed by Standard Webhooks where the job has a secret. */
async function post(s: JobParts, target: Extract<DeliveryTarget, { kind: 'post' }>, run: RunRow, job: JobRow): Promise<Attempted> {
  let body = '';
  for await (const piece of pieces(s, run, target.format)) {
    body += piece;
    if (body.length > MAX_POST_BYTES)
      return {
        done: false,
        isFinal: true,
        says: `The result is larger than ${MAX_POST_BYTES / 1_000_000} MB. Let the application fetch it from its address.`,
      };
  }
  const at = { table: 'jobs', row: job.id, column: 'signing_secret_sealed' };
  const posted = await postWebhook(s.ports, {
    url: target.url,
    id: `run_${run.id}`,
    contentType: MEDIA_TYPES[target.format],
    body,
    secret: job.signingSecretSealed && (await s.sealer.open(at, job.signingSecretSealed)),
    headers: {
      'rusty-kettle-job': job.name,
      'rusty-kettle-run': String(run.number),
      'rusty-kettle-verdict': run.outcome?.completeness?.verdict ?? 'cannot_tell',
    },
    deadlineMs: POST_DEADLINE_MS,
  });
  return posted.done || posted.retryAfterMs === null ? posted : { ...posted, retryAfterMs: Math.min(MOST_MS, posted.retryAfterMs) };
}
