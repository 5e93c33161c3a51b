import { randomBytes } from 'node:crypto';
import { mkdtempSync, rmSync } from 'node:fs';
import { Socket } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { json } from 'node:stream/consumers';
import { type RehearsalLine, RehearsalPlan } from '../api/rehearsals.ts';
import { Fault } from '../core/fault.ts';
import type { RehearsalReport } from '../core/rehearsals/report.ts';
import { freePort } from '../service/database/index.ts';
import { play } from './play.ts';
import { openStage } from './stage.ts';

/** Plays a plan in a scratch folder, which is removed at the end, also where `stop` ends it early. */
export async function rehearse(
  plan: RehearsalPlan,
  hear: (percent: number, doing: string) => void,
  stop: AbortSignal = new AbortController().signal,
  given?: string,
): Promise<RehearsalReport> {
  const tell: typeof hear = (percent, doing) => {
    stop.throwIfAborted(); // between two steps, so that everything is taken down in order
    hear(percent, doing);
  };
  const folder = given ?? scratchFolder();
  try {
    tell(0, 'Starting a scratch database and simulated providers');
    const options = { folder, port: await freePort(), startAt: Date.now(), password: randomBytes(18).toString('base64url') };
    const stage = await openStage(plan, options).catch((error: unknown) => {
      throw notStaged(error);
    });
    try {
      return await play(stage, plan, tell);
    } finally {
      await stage.stop();
    }
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
}

function scratchFolder(): string {
  try {
    return mkdtempSync(join(tmpdir(), 'rehearsal-'));
  } catch (error) {
    throw notStaged(error);
  }
}

/** The scratch database could not be made: the cause, and what it needs. */
const notStaged = (error: unknown): Fault =>
  new Fault('SETTING_INVALID', {
    detail: `The scratch database of the rehearsal could not be made. ${error instanceof Fault ? (error.detail ?? error.message) : error instanceof Error ? error.message : ''}`,
    remedy: `It needs mariadb-server on the machine of the service, and 300 MB in ${tmpdir()}, open to the user mysql where the service runs as root. Choose another folder with TMPDIR.`,
  });

/** The pipe that the service holds open as long as it lives. */
const PARENT = 3;
/** Longer than anything takes to be taken down in order. */
const TAKEN_DOWN_MS = 60_000;
function endsWith(fd: number, stopping: AbortController): void {
  const pipe = new Socket({ fd, readable: true, writable: false });
  pipe.on('error', () => undefined); // it closes, too
  pipe.on('close', () => {
    stopping.abort();
    setTimeout(() => process.exit(1), TAKEN_DOWN_MS).unref();
  });
  pipe.resume().unref();
}

/** The program: a plan comes on standard input, one JSON object in each line goes out. */
export async function main(): Promise<void> {
  const out = (line: (typeof RehearsalLine)['_output']): void => void process.stdout.write(`${JSON.stringify(line)}\n`);
  const stopping = new AbortController();
  for (const signal of ['SIGTERM', 'SIGINT'] as const) process.once(signal, () => stopping.abort());
  process.stdout.on('error', () => stopping.abort()); // whoever listened is gone
  if (process.env.REHEARSAL_FOLDER !== undefined) endsWith(PARENT, stopping);
  try {
    const plan = RehearsalPlan.parse(await json(process.stdin));
    out({ report: await rehearse(plan, (percent, doing) => out({ percent, doing }), stopping.signal, process.env.REHEARSAL_FOLDER) });
  } catch (error) {
    const remedy = error instanceof Fault ? error.remedy : 'Look into the log of the service.';
    out({ failed: { says: error instanceof Fault ? (error.detail ?? error.message) : error instanceof Error ? error.message : 'unknown', remedy } });
    process.exitCode = 1;
  }
}
