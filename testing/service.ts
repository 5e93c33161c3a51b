import { type ChildProcess, spawn } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { chmodSync, mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { type ApiClient, apiClient } from '../src/api/client.ts';
import { DEFAULT_LIMITS } from '../src/core/renewal/limits.ts';
import { freePort } from '../src/service/database/private-mariadb.ts';
import { coverageEnvironment, keepOwnCoverage } from './coverage.ts';
import { eventually, Stop } from './waiting.ts';

export const RK = fileURLToPath(new URL('../dist/cli/main.js', import.meta.url));
const READY_LIMIT_MS = 60_000;

/**
 * Every replica hears of a change within a second: `npm run bench` measures that. What a test asks is that it hears at all, on a machine
 * that others may starve for longer.
 */
export const HEARD_MS = 10_000;

export const PASSWORD = 'harbour-light-9';

/** A real `rk serve` as a process of its own, on a port of its own. */
export interface ServiceUnderTest {
  url: string;
  folder: string;
  process: ChildProcess;
  /** All it wrote on stdout and stderr. */
  output(): string;
  /** Ends it as Ctrl-C would; resolves with the exit code. */
  stop(): Promise<number | null>;
  kill(): Promise<void>;
}

export interface ServiceOptions {
  databaseUrl: string;
  masterKey?: string;
  publicUrl?: string;
  folder?: string;
  port?: number;
  environment?: Record<string, string>;
  /** How it is reached, where it answers HTTPS: it knows the authority. */
  send?: typeof fetch;
  /** Arguments for Node.js instead of `rk serve`. */
  run?: string[];
}

/** Short limits, so that a bad day passes in seconds. */
export const SHORT_LIMITS = {
  RUSTY_KETTLE_DEADLINE_MS: '3000',
  RUSTY_KETTLE_LEASE_MS: '8000',
  RUSTY_KETTLE_MARGIN_MS: '500',
  RUSTY_KETTLE_HEARTBEAT_MS: '200',
  RUSTY_KETTLE_SILENT_MS: '1500',
  RUSTY_KETTLE_HOLDER_WAIT_MS: '10000',
  RUSTY_KETTLE_CONFIRM_MS: '700',
  RUSTY_KETTLE_POLL_MS: '60',
  RUSTY_KETTLE_STOPPED_TRY_MS: '1500',
  RUSTY_KETTLE_VERIFY_RENEWAL: 'off', // tests count renewals; those of this habit turn it on
};

/** The limits that the service has where nothing is set, for runs that should be like production. */
export const OWN_LIMITS = {
  RUSTY_KETTLE_DEADLINE_MS: String(DEFAULT_LIMITS.deadlineMs),
  RUSTY_KETTLE_LEASE_MS: String(DEFAULT_LIMITS.leaseMs),
  RUSTY_KETTLE_MARGIN_MS: String(DEFAULT_LIMITS.marginMs),
  RUSTY_KETTLE_HEARTBEAT_MS: String(DEFAULT_LIMITS.heartbeatMs),
  RUSTY_KETTLE_SILENT_MS: String(DEFAULT_LIMITS.silentMs),
  RUSTY_KETTLE_HOLDER_WAIT_MS: String(DEFAULT_LIMITS.holderWaitMs),
  RUSTY_KETTLE_CONFIRM_MS: String(DEFAULT_LIMITS.confirmMs),
  RUSTY_KETTLE_POLL_MS: String(DEFAULT_LIMITS.pollMs),
  RUSTY_KETTLE_STOPPED_TRY_MS: String(DEFAULT_LIMITS.stoppedTryMs),
};

export const newMasterKey = (): string => randomBytes(32).toString('base64');

export function newFolder(): string {
  const folder = mkdtempSync(join(tmpdir(), 'rk-'));
  chmodSync(folder, 0o711);
  return folder;
}

export async function startService(options: ServiceOptions): Promise<ServiceUnderTest> {
  const port = options.port ?? (await freePort());
  const folder = options.folder ?? newFolder();
  const url = `${options.send ? 'https' : 'http'}://127.0.0.1:${port}`;
  const send = options.send ?? fetch;
  const child = spawn(process.execPath, options.run ?? [RK, 'serve'], {
    env: {
      PATH: process.env.PATH,
      ...coverageEnvironment(),
      RUSTY_KETTLE_DATA_FOLDER: folder,
      RUSTY_KETTLE_DATABASE_URL: options.databaseUrl,
      RUSTY_KETTLE_MASTER_KEY: options.masterKey ?? newMasterKey(),
      RUSTY_KETTLE_PORT: String(port),
      RUSTY_KETTLE_PUBLIC_URL: options.publicUrl ?? url,
      RUSTY_KETTLE_PRIVATE_HOSTS: '*.localhost, 127.0.0.1',
      RUSTY_KETTLE_LOG_LEVEL: 'debug',
      ...SHORT_LIMITS,
      ...options.environment,
    },
    stdio: ['ignore', 'pipe', 'pipe'],
  });
  let written = '';
  for (const stream of [child.stdout, child.stderr]) stream.on('data', (part) => (written += part));
  const ended = new Promise<number | null>((resolve) =>
    child.once('exit', (code) => {
      keepOwnCoverage(child.pid);
      resolve(code);
    }),
  );
  const service: ServiceUnderTest = {
    url,
    folder,
    process: child,
    output: () => written,
    stop: () => {
      child.kill('SIGTERM');
      return ended;
    },
    kill: async () => {
      child.kill('SIGKILL');
      await ended;
    },
  };
  await eventually(async () => {
    if (child.exitCode !== null) throw new Stop(`rk serve ended with ${child.exitCode}:\n${written}`);
    return (await send(`${url}/readyz`)).ok;
  }, READY_LIMIT_MS);
  return service;
}

/** Makes the first operator and signs in as a program. */
export async function signIn(service: ServiceUnderTest, name = 'marit', send: typeof fetch = fetch): Promise<ApiClient & { token: string }> {
  const anonymous = apiClient({ baseUrl: service.url, fetch: send });
  if ((await anonymous('firstOperatorState')).needed) {
    const ticket = readFileSync(join(service.folder, 'first-operator.link'), 'utf8').trim().split('/').at(-1) ?? '';
    await anonymous('addFirstOperator', { body: { ticket, name, password: PASSWORD } });
  }
  const { token } = await anonymous('signIn', { body: { name, password: PASSWORD, keeps: 'token' } });
  return Object.assign(apiClient({ baseUrl: service.url, token: token ?? '', fetch: send }), { token: token ?? '' });
}

export const removeFolder = (folder: string): void => rmSync(folder, { recursive: true, force: true });

/** Runs `rk` as a person would. */
export function rk(
  args: string[],
  options: { home: string; input?: string; environment?: Record<string, string> },
): Promise<{ code: number | null; out: string; err: string }> {
  const child = spawn(process.execPath, [RK, ...args], {
    env: { PATH: process.env.PATH, XDG_CONFIG_HOME: options.home, NO_COLOR: '1', ...coverageEnvironment(), ...options.environment },
  });
  let [out, err] = ['', ''];
  child.stdout.on('data', (part) => (out += part));
  child.stderr.on('data', (part) => (err += part));
  child.stdin.end(options.input ?? '');
  return new Promise((resolve) =>
    child.once('close', (code) => {
      keepOwnCoverage(child.pid);
      resolve({ code, out, err });
    }),
  );
}
