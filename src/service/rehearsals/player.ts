import { type ChildProcess, spawn } from 'node:child_process';
import { setPriority } from 'node:os';
import { createInterface } from 'node:readline';
import { RehearsalLine, type RehearsalPlan } from '../../api/rehearsals.ts';
import type { RehearsalReport } from '../../core/rehearsals/report.ts';
import { newScratch, removeScratch } from './scratch.ts';

/** How a rehearsal ended that was played to its end, or was not. */
export type Played = { report: RehearsalReport } | { failed: string };

const DEADLINE_MS = 30 * 60_000;
const TAKEN_DOWN_MS = 60_000;
const MEMORY_MB = 1_024;
const NICE = 10;
const KEPT_OF_ERRORS = 2_000;

/**
 * Plays a plan in a process of its own, which gets nothing of this one's settings: no master key, no database. Whoever aborts `stop` ends
 * it. Never rejects.
 * @param tell hears how far it is
 */
export async function playApart(plan: RehearsalPlan, { stop, tell }: { stop: AbortSignal; tell(percent: number, doing: string): void }): Promise<Played> {
  const isSource = import.meta.url.endsWith('.ts');
  const program = new URL(`../../rehearsal/program.${isSource ? 'ts' : 'js'}`, import.meta.url).pathname;
  const folder = scratchIfAny();
  const child = spawn(process.execPath, [`--max-old-space-size=${MEMORY_MB}`, ...(isSource ? ['--import', 'tsx'] : []), program], {
    // The fourth stays open as long as we live: the program stops when it closes.
    stdio: ['pipe', 'pipe', 'pipe', 'pipe'],
    env: { PATH: process.env.PATH, HOME: process.env.HOME, TMPDIR: process.env.TMPDIR, ...(folder === null ? {} : { REHEARSAL_FOLDER: folder }) },
  });
  const ends = AbortSignal.any([stop, AbortSignal.timeout(DEADLINE_MS)]);
  const end = (): void => {
    child.kill('SIGTERM'); // it takes down its scratch database
    setTimeout(() => child.kill('SIGKILL'), TAKEN_DOWN_MS).unref();
  };
  ends.addEventListener('abort', end, { once: true });
  lowered(child);
  let [errors, played] = ['', null as Played | null];
  child.stderr?.on('data', (part: Buffer) => (errors = (errors + part.toString('utf8')).slice(-KEPT_OF_ERRORS)));
  child.stdin.on('error', () => undefined); // it ended early, and says why
  child.stdin.end(JSON.stringify(plan));
  const ended = new Promise<string>((resolve) => {
    child.once('error', (error) => resolve(error.message));
    child.once('close', (code) => resolve(`The program of the rehearsal stopped with ${code ?? 'a signal'}. ${lastLine(errors)}`.trim()));
  });
  for await (const text of createInterface({ input: child.stdout })) {
    const line = readLine(text);
    if (line === null) continue;
    if ('percent' in line) tell(line.percent, line.doing);
    else if ('report' in line) played = { report: line.report };
    else played = { failed: `${line.failed.says} ${line.failed.remedy}`.trim() };
  }
  const why = await ended;
  ends.removeEventListener('abort', end);
  if (folder !== null) await removeScratch(folder); // where the program was killed, its database server lives on
  if (stop.aborted) return { failed: 'It was stopped.' };
  if (ends.aborted) return { failed: 'It took longer than 30 minutes.' };
  return played ?? { failed: why };
}

/** Null: there is no room for one, which the program says with what to do. */
function scratchIfAny(): string | null {
  try {
    return newScratch();
  } catch {
    return null;
  }
}

const lastLine = (text: string): string => text.trim().split('\n').at(-1) ?? '';
function readLine(text: string): ReturnType<typeof RehearsalLine.parse> | null {
  try {
    return RehearsalLine.parse(JSON.parse(text));
  } catch {
    return null; // a warning of Node.js or of a package
  }
}

/** The service itself comes first. */
function lowered({ pid }: ChildProcess): void {
  try {
    if (pid !== undefined) setPriority(pid, NICE);
  } catch {
    // not permitted here: it runs beside the service
  }
}
