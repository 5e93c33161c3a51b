import { closeSync, openSync, readFileSync, rmSync, writeSync } from 'node:fs';
import { join } from 'node:path';
import { stringify } from 'csv-stringify/sync';
import { Pool } from 'undici';
import type { Run } from '../src/api/jobs.ts';
import { openSeeder } from '../testing/seed.ts';
import { newFolder, removeFolder } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { alternate } from './alternate.ts';
import { startChild } from './child.ts';
import { type Measured, type Rig, startRig, timed } from './rig.ts';
import { permitFresh } from './tokens.ts';

const PAGE = 1_000;
const SLICE_RECORDS = 100_000;
const SLICES = 14;
const MANY = 1_000_000;
const RUN_LIMIT_MS = 300_000;
const COLUMNS = ['id', 'day', 'departs', 'boat', 'from', 'to', 'places', 'guest.name', 'guest.email', 'note'];

const rssMb = (pid: number): number => Number(/VmRSS:\s+(\d+)/.exec(readFileSync(`/proc/${pid}/status`, 'utf8'))?.[1] ?? 0) / 1024;

/** The bare loop: the same client and the same CSV package, page after page into one file. */
async function bareLoop(port: number, folder: string, records: number): Promise<void> {
  const pool = new Pool(`http://127.0.0.1:${port}`, { connections: 1 });
  const path = join(folder, 'bare.csv');
  const file = openSync(path, 'w');
  let cursor: string | null = '0';
  writeSync(file, stringify([COLUMNS]));
  while (cursor !== null) {
    const { body } = await pool.request({ method: 'GET', path: `/v1/tables/t/rows?limit=${PAGE}&of=${records}&cursor=${cursor}` });
    const page = JSON.parse(await body.text()) as { rows: Record<string, unknown>[]; next_cursor: string | null };
    const cells = page.rows.map((row) => {
      const guest = row.guest as Record<string, unknown>;
      return [row.id, row.day, row.departs, row.boat, row.from, row.to, row.places, guest.name, guest.email, row.note];
    });
    writeSync(file, stringify(cells));
    cursor = page.next_cursor;
  }
  closeSync(file);
  rmSync(path);
  await pool.close();
}

/** Records a second that a job collects, pages to CSV, saved after each page; and the memory that it takes for a million. */
export async function benchJobs(databaseUrl: string): Promise<Measured[]> {
  const api = await startChild('bare-pages.ts');
  const rig = await startRig(databaseUrl, api.port, {}, (text) => text.replace('most: 100000', 'most: 1000000000'));
  const seeder = await openSeeder(databaseUrl, rig.masterKey);
  const folder = newFolder();
  try {
    const { names } = await permitFresh(rig, seeder, 'j', 1, 400);
    await seeder.settled();
    const add = (records: number) =>
      rig.call('addJob', {
        body: {
          name: `rows-${records}`,
          connection: names[0] ?? '',
          call: { method: 'GET', path: `/tables/t/rows?of=${records}` },
          paging: {
            style: 'cursor',
            items: '/rows',
            next: '/next_cursor',
            total: '/total',
            parameter: 'cursor',
            size_parameter: 'limit',
            size_most: PAGE,
            id: '/id',
          },
          layout: { columns: COLUMNS.map((field) => ({ field })) },
          keep_runs: 1,
        },
      });
    await add(SLICE_RECORDS);
    await add(MANY);
    const compared = await alternate({
      what: 'jobs',
      ours: async () => SLICE_RECORDS / (await runOnce(rig, SLICE_RECORDS)).seconds,
      theirs: async () => SLICE_RECORDS / ((await timed(() => bareLoop(api.port, folder, SLICE_RECORDS))) / 1000),
      slices: SLICES,
      warmUp: 1,
    });
    const pid = rig.service.process.pid ?? 0;
    const idle = rssMb(pid);
    let peak = idle;
    const sampling = setInterval(() => (peak = Math.max(peak, rssMb(pid))), 100);
    const many = await runOnce(rig, MANY).finally(() => clearInterval(sampling));
    return [
      {
        key: 'jobs',
        what: `records collected per second by a job, pages of ${PAGE} to CSV`,
        ours: `${Math.round(compared.ours)}/s`,
        against: `bare loop, same client and CSV package ${Math.round(compared.theirs)}/s`,
        ratio: compared,
        target: '\u2265 0.6',
        holds: compared.ratio >= 0.6,
      },
      {
        key: 'jobs_memory',
        what: `memory while a job collects ${MANY.toLocaleString('en-US')} records (${many.seconds} s)`,
        ours: `+ ${Math.round(peak - idle)} MB`,
        against: `idle ${Math.round(idle)} MB`,
        ratio: null,
        target: '\u2264 + 120 MB',
        holds: peak - idle <= 120,
      },
    ];
  } finally {
    removeFolder(folder);
    await seeder.close();
    await rig.service.stop();
    api.stop();
  }
}

async function runOnce(rig: Rig, records: number): Promise<Run> {
  const started = await rig.call('runJob', { params: { job: `rows-${records}` } });
  const run = await eventually(async () => {
    const seen = await rig.call('showRun', { params: { run: started.id } });
    return ['done', 'failed'].includes(seen.state) ? seen : null;
  }, RUN_LIMIT_MS);
  if (run.completeness?.verdict !== 'complete' || run.records !== records)
    throw new Error(`the run brought ${run.records} records: ${JSON.stringify(run.problem)}`);
  return run;
}
