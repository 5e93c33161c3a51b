import { type ChildProcess, spawn } from 'node:child_process';
import { setTimeout as sleep } from 'node:timers/promises';
import { fileURLToPath } from 'node:url';

export const ROOT = fileURLToPath(new URL('..', import.meta.url));
const RK = `${ROOT}dist/cli/main.js`;

/** A child of ours, in a process group of its own, so that Ctrl-C reaches us first and we end all in order. */
export interface Running {
  child: ChildProcess;
  output(): string;
  stop(): Promise<number | null>;
}

const STOP_LIMIT_MS = 60_000;

export function start(script: string, args: string[], environment: Record<string, string>, onLine?: (line: string) => void): Running {
  const child = spawn(process.execPath, [script, ...args], {
    cwd: ROOT,
    detached: true,
    stdio: ['ignore', 'pipe', 'pipe'],
    env: { PATH: process.env.PATH ?? '', HOME: process.env.HOME ?? '', ...environment },
  });
  let written = '';
  const take = (part: Buffer) => {
    written = (written + part.toString('utf8')).slice(-200_000);
    if (onLine) for (const line of part.toString('utf8').split('\n').filter(Boolean)) onLine(line);
  };
  child.stdout?.on('data', take);
  child.stderr?.on('data', take);
  const ended = new Promise<number | null>((resolve) => child.once('exit', resolve));
  return {
    child,
    output: () => written,
    async stop() {
      if (child.exitCode !== null) return child.exitCode;
      child.kill('SIGTERM');
      return Promise.race([ended, sleep(STOP_LIMIT_MS, null, { ref: false })]);
    },
  };
}

export const startRk = (args: string[], environment: Record<string, string>, onLine?: (line: string) => void): Running => start(RK, args, environment, onLine);

/** Runs `rk` to its end, as a person would. */
export function rk(args: string[], environment: Record<string, string>, input = ''): Promise<{ code: number | null; out: string; err: string }> {
  const child = spawn(process.execPath, [RK, ...args], { cwd: ROOT, env: { PATH: process.env.PATH ?? '', NO_COLOR: '1', ...environment } });
  let [out, err] = ['', ''];
  child.stdout.on('data', (part) => (out += part));
  child.stderr.on('data', (part) => (err += part));
  child.stdin.end(input);
  return new Promise((resolve) => child.once('close', (code) => resolve({ code, out, err })));
}

/** Waits until an address answers 200; bounded. */
export async function untilReady(url: string, of: Running, limitMs = 60_000): Promise<void> {
  for (const endsAt = Date.now() + limitMs; Date.now() < endsAt; await sleep(100)) {
    if (of.child.exitCode !== null) throw new Error(`it exited:\n${of.output()}`);
    const answer = await fetch(url, { signal: AbortSignal.timeout(2_000) }).catch(() => null); // not there yet
    if (answer?.ok) return;
  }
  throw new Error(`${url} did not answer within ${limitMs / 1000} s:\n${of.output()}`);
}

/** Runs examples/timetable-board.mjs quietly; `end` stops it and gives its last line: calls, failures, tokens. */
export function startBoard(settings: Record<string, string>): { end(): Promise<string> } {
  const running = start(`${ROOT}examples/timetable-board.mjs`, [], { ...settings, QUIET: '1' });
  return {
    async end() {
      await running.stop();
      return running.output().trim().split('\n').at(-1) ?? '';
    },
  };
}
