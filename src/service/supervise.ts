import cluster, { type Worker } from 'node:cluster';
import { once } from 'node:events';
import { existsSync, readdirSync } from 'node:fs';
import { join } from 'node:path';
import { setTimeout as sleep } from 'node:timers/promises';
import { pino } from 'pino';
import { AggregatorRegistry, Registry } from 'prom-client';
import { closeWhileEmpty, readTlsFiles, refuseUsedPort, watchClusterSocket } from './http/index.ts';
import type { Ready, ToServer, ToSupervisor } from './processes/index.ts';
import type { Settings } from './settings.ts';

/** Several processes that serve one port, as one service. */
export interface Supervised extends Pick<Ready, 'publicUrl' | 'firstOperatorFile'> {
  /** Ends them all, the first one last: it may own the database. */
  stop(): Promise<void>;
}
/** A process ended before it served; it has said why. */
export class NotStarted extends Error {
  readonly code: number;
  constructor(code: number) {
    super('a process ended while it started');
    this.name = 'NotStarted';
    this.code = code;
  }
}

const AGAIN_MS = 500;
const MAX_AGAIN_MS = 30_000;
/** Who ran for so long did not fail at its start. */
const STEADY_MS = 60_000;
const FIGURES_WITHIN_MS = 3_000;

/**
 * Starts as many processes as are set, each a replica with a data folder of its own: the first one's is the data folder, the others' stand in
 * `processes/` below it. Whoever ends is started again. @throws {NotStarted} where the first one does not start
 */
export async function superviseProcesses(settings: Settings): Promise<Supervised> {
  const log = pino({ level: settings.logLevel, base: { pid: process.pid } }, pino.destination({ dest: 2, sync: true }));
  if (settings.tls) readTlsFiles(settings.tls);
  await refuseUsedPort(settings);
  const socket = watchClusterSocket(settings.port);
  const processes = new Map<number, Worker>();
  const stopping = new AbortController();
  const figures = sumOfFigures(processes);
  let privateDatabase: string | null = null;
  const folderOf = (number: number): string => (number === 1 ? settings.dataFolder : join(settings.dataFolder, 'processes', String(number)));
  warnOfFormer(settings, folderOf, (path) =>
    log.warn({ event: 'processes.former_folder', path }, 'a process that is no longer set left its folder; run `rk replica adopt` on it'),
  );

  /** A private database that was started again may have another port: the other processes start again, too. */
  const moved = (address: string | null): void => {
    if (privateDatabase !== null && privateDatabase !== address) for (const [number, worker] of processes) if (number !== 1) send(worker, { kind: 'stop' });
    privateDatabase = address;
  };
  const environmentOf = (number: number): Record<string, string> => ({
    RUSTY_KETTLE_DATA_FOLDER: folderOf(number),
    ...(privateDatabase === null || number === 1 ? {} : { RUSTY_KETTLE_DATABASE_URL: privateDatabase, ...keyBeside(settings) }),
  });
  let portClosed: Promise<void> | null = null;
  const closePort = async (): Promise<void> => {
    const handle = stopping.signal.aborted ? socket() : null; // one that starts again leaves the port open
    if (handle) portClosed ??= closeWhileEmpty(handle, () => handle.close());
    await portClosed;
  };
  const start = (number: number): Worker => {
    const worker = cluster.fork();
    processes.set(number, worker);
    worker.on('message', (message: ToSupervisor) => {
      if (message.kind === 'begun')
        // What was sent before is lost, a stop too.
        send(worker, stopping.signal.aborted ? { kind: 'stop' } : { kind: 'begin', environment: environmentOf(number), isFirst: number === 1 });
      else if (message.kind === 'close_port') void closePort().then(() => send(worker, { kind: 'port_closed' }));
      else if (message.kind === 'ready' && number === 1) moved(message.privateDatabase);
      else figures.take(worker, message);
    });
    return worker;
  };
  const keep = async (number: number, started: Worker): Promise<void> => {
    let waitMs = AGAIN_MS;
    for (let worker = started; ; worker = start(number)) {
      const startedAt = performance.now();
      const [code, signal] = worker.isDead() ? [worker.process.exitCode, worker.process.signalCode] : await once(worker, 'exit');
      processes.delete(number);
      if (stopping.signal.aborted) return;
      if (performance.now() - startedAt > STEADY_MS) waitMs = AGAIN_MS;
      log.error({ event: 'processes.ended', process: number, code, signal, againInMs: waitMs }, 'a process ended; starting it again');
      await sleep(waitMs, undefined, { signal: stopping.signal }).catch(() => undefined);
      if (stopping.signal.aborted) return;
      waitMs = Math.min(waitMs * 2, MAX_AGAIN_MS);
    }
  };

  cluster.setupPrimary({ serialization: 'json' });
  const first = start(1);
  const ready = await untilReady(first);
  const kept = [keep(1, first), ...Array.from({ length: settings.processes - 1 }, (_none, at) => keep(at + 2, start(at + 2)))];
  log.info({ event: 'processes.started', processes: settings.processes }, 'processes started');
  const stop = async (): Promise<void> => {
    stopping.abort();
    const first = processes.get(1);
    if (first) send(first, { kind: 'stopping' });
    const others = [...processes].filter(([number]) => number !== 1);
    for (const [, worker] of others) send(worker, { kind: 'stop' });
    await Promise.all(kept.slice(1));
    const last = processes.get(1);
    if (last) send(last, { kind: 'stop' });
    await kept[0];
  };
  let stopped: Promise<void> | null = null;
  return { publicUrl: ready.publicUrl, firstOperatorFile: ready.firstOperatorFile, stop: () => (stopped ??= stop()) };
}

/** A process that just ended takes no message; its end is noticed elsewhere. */
const send = (worker: Worker, message: ToServer): void => void (worker.isConnected() && worker.send(message, () => undefined));

/** Beside a private database the key is in the data folder, unless a setting gives it. */
const keyBeside = (settings: Settings): Record<string, string> =>
  settings.masterKey !== null || settings.masterKeyCommand !== null || settings.masterKeyShares.length > 0
    ? {}
    : { RUSTY_KETTLE_MASTER_KEY_FILE: join(settings.dataFolder, 'master.key') };

async function untilReady(worker: Worker): Promise<Ready> {
  return new Promise((resolve, reject) => {
    worker.on('message', (message: ToSupervisor) => void (message.kind === 'ready' && resolve(message)));
    worker.once('exit', (code) => reject(new NotStarted(code ?? 1)));
  });
}

/** Folders of processes beyond those that are set now. */
function warnOfFormer(settings: Settings, folderOf: (number: number) => string, warn: (path: string) => void): void {
  const below = join(settings.dataFolder, 'processes');
  for (const name of existsSync(below) ? readdirSync(below) : []) if (Number(name) > settings.processes) warn(folderOf(Number(name)));
}

/** Adds up the figures of all processes: whoever is asked for them serves the sum. */
function sumOfFigures(processes: ReadonlyMap<number, Worker>): { take(from: Worker, message: ToSupervisor): void } {
  let lastId = 0;
  const open = new Map<number, (worker: Worker, figures: object[]) => void>();
  const gather = async (): Promise<string> => {
    lastId += 1;
    const id = lastId;
    const waiting = new Set(processes.values());
    const all: object[][] = [];
    await new Promise<void>((resolve) => {
      const timer = setTimeout(resolve, FIGURES_WITHIN_MS); // who does not answer is left out
      open.set(id, (worker, figures) => {
        all.push(figures);
        waiting.delete(worker);
        if (waiting.size > 0) return;
        clearTimeout(timer);
        resolve();
      });
      for (const worker of waiting) send(worker, { kind: 'figures_asked', id });
    });
    open.delete(id);
    const sum = AggregatorRegistry.aggregate(all) as Registry<typeof Registry.OPENMETRICS_CONTENT_TYPE>;
    sum.setContentType(Registry.OPENMETRICS_CONTENT_TYPE);
    return sum.metrics();
  };
  return {
    take(from, message) {
      if (message.kind === 'own_figures') open.get(message.id)?.(from, message.figures);
      else if (message.kind === 'all_figures') void gather().then((text) => send(from, { kind: 'figures', id: message.id, text }));
    },
  };
}
