import cluster from 'node:cluster';
import { once } from 'node:events';
import pTimeout from 'p-timeout';
import type { Ready, ToServer, ToSupervisor } from './messages.ts';

const BEGIN_WITHIN_MS = 30_000;
const FIGURES_WITHIN_MS = 5_000;
const CLOSE_WITHIN_MS = 5_000;
/** A process that starts, and accepts already, is stopped when it is ready. */
const READY_WITHIN_MS = 3_000;

/** The figures of this process, for the sum of all. */
let ownFigures: (() => Promise<object[]>) | null = null;
let lastQuestion = 0;
let isLast = false;

const tell = (message: ToSupervisor): void => void process.send?.(message);

/** Messages of the supervisor; `off` ends it. */
function listen(take: (message: ToServer) => void): () => void {
  process.on('message', take);
  return () => process.off('message', take);
}

type Serving = { stopping(): void; stop(): Promise<void> };

/** One of several processes that serve one port; null: this process is alone. */
export interface ServingProcess {
  /** Settings besides those of the environment. */
  environment: Record<string, string>;
  /** The first one writes one-time links, and owns a private database. */
  isFirst: boolean;
  /** Reports that it serves; from here on a stop is announced to `stopping` and requested of `stop`. */
  ready(ready: Ready, serving: Serving): void;
}

/**
 * Waits for the supervisor to say how to start. Signals are the supervisor's: a terminal or a service manager sends them to every process at
 * once, and the database must go last. Without its supervisor a process ends at once, as after a crash.
 */
export async function servingProcess(): Promise<ServingProcess | null> {
  if (!cluster.isWorker) return null;
  for (const signal of ['SIGINT', 'SIGTERM'] as const) process.on(signal, () => undefined);
  let tellReady = (_serving: Serving): void => undefined;
  const isReady = new Promise<Serving>((resolve) => {
    tellReady = resolve;
  });
  const answer = once(process, 'message');
  tell({ kind: 'begun' });
  const [begin] = (await pTimeout(answer, { milliseconds: BEGIN_WITHIN_MS })) as [ToServer];
  if (begin.kind === 'stop') process.exit(0);
  if (begin.kind !== 'begin') throw new Error('the supervisor did not say how to start');
  isLast = begin.isFirst; // it stops last
  listen((message) => {
    if (message.kind === 'stop')
      void pTimeout(isReady, { milliseconds: READY_WITHIN_MS })
        .then((serving) => serving.stop())
        .then(
          () => process.exit(0),
          () => process.exit(1),
        );
    else if (message.kind === 'stopping') void isReady.then((serving) => serving.stopping());
    else if (message.kind === 'figures_asked') {
      const { id } = message;
      void (ownFigures?.() ?? Promise.resolve([])).then((figures) => tell({ kind: 'own_figures', id, figures }));
    }
  });
  return {
    environment: begin.environment,
    isFirst: begin.isFirst,
    ready(ready, serving) {
      tellReady(serving);
      tell({ kind: 'ready', ...ready });
    },
  };
}

/** Closes the port on which the supervisor listens for all; null: this process is alone, or others go on. */
export function supervisorsSocket(): (() => Promise<void>) | null {
  if (!cluster.isWorker || !isLast) return null;
  return async () => {
    let off = (): void => undefined;
    const answer = new Promise<void>((resolve) => {
      off = listen((message) => void (message.kind === 'port_closed' && resolve()));
    });
    tell({ kind: 'close_port' });
    await pTimeout(answer, { milliseconds: CLOSE_WITHIN_MS, fallback: () => undefined }).finally(off);
  };
}

/** Figures of all processes that serve this port, as text; null: this process is alone. @param own gives its own, whoever asks */
export function figuresOfAll(own: () => Promise<object[]>): (() => Promise<string>) | null {
  if (!cluster.isWorker) return null;
  ownFigures = own;
  return async () => {
    lastQuestion += 1;
    const id = lastQuestion;
    let off = (): void => undefined;
    const answer = new Promise<string>((resolve) => {
      off = listen((message) => void (message.kind === 'figures' && message.id === id && resolve(message.text)));
    });
    tell({ kind: 'all_figures', id });
    return pTimeout(answer, { milliseconds: FIGURES_WITHIN_MS }).finally(off);
  };
}
