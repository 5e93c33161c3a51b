import cluster from 'node:cluster';
import type { Server } from 'node:http';
import type { Server as SecureServer } from 'node:https';
import { Server as NetServer, type Socket } from 'node:net';
import { setTimeout as sleep } from 'node:timers/promises';
import { closeWhileEmpty, handleOf } from './listening-socket.ts';

/** Balancers read in `/readyz` that the service stops; it accepts until no connection has come for so long. */
const QUIET_MS = 400;
/** Where some always come. */
const MAX_ACCEPT_MS = 3_000;
/** The process that listens for us passes on what it accepted one by one. */
const MAX_HANDED_OVER_MS = 10_000;
/** How long a socket may be open without its first request, and one that was used may carry the next one already. */
const FIRST_REQUEST_MS = 5_000;
const LAST_REQUEST_MS = 300;
const LOOK_MS = 20;

/** Connections that came, and those of them on which nothing was asked yet. */
export interface Arrivals {
  /** When the last one came, as `performance.now` counts. */
  lastAt(): number;
  /** How many came in all. */
  count(): number;
  unasked(): number;
  asked(socket: Socket): void;
}

export function arrivalsAt(server: Server | SecureServer, isSecure: boolean): Arrivals {
  const unasked = new Set<Socket>();
  let [count, lastAt] = [0, performance.now()];
  server.on(isSecure ? 'secureConnection' : 'connection', (socket: Socket) => {
    count += 1;
    lastAt = performance.now();
    unasked.add(socket);
    socket.once('close', () => unasked.delete(socket));
  });
  return { lastAt: () => lastAt, count: () => count, unasked: () => unasked.size, asked: (socket) => void unasked.delete(socket) };
}

/**
 * Closes a server without resetting anybody: it accepts until nobody comes any more, or some always do; then the listening socket closes while
 * nobody waits in it. What was accepted is read and answered with `Connection: close`; only then are idle sockets closed. Ends after `limitMs`
 * in any case.
 * @param closeSupervisors closes the socket of the process that listens for us and others, if it is open; null: nobody does, or others go on
 */
export async function closeGently(
  server: Server | SecureServer,
  arrivals: Arrivals,
  limitMs: number,
  closeSupervisors: (() => Promise<void>) | null,
): Promise<void> {
  const endsAt = performance.now() + limitMs;
  const quietFor = async (gapMs: number, mostMs: number): Promise<void> => {
    const until = Math.min(performance.now() + mostMs, endsAt);
    while (performance.now() < until) {
      if (performance.now() - arrivals.lastAt() >= gapMs) return;
      await sleep(Math.min(LOOK_MS, gapMs));
    }
  };
  await quietFor(QUIET_MS, MAX_ACCEPT_MS);
  if (closeSupervisors) {
    // Its answer comes behind what it sent before, and it sends the next one when it has heard of the last: once none came between, all came.
    for (const until = performance.now() + MAX_HANDED_OVER_MS; performance.now() < until; ) {
      const before = arrivals.count();
      await closeSupervisors();
      if (arrivals.count() === before) break;
    }
  }
  let tellClosed = (): void => undefined;
  const closed = new Promise<void>((resolve) => {
    tellClosed = resolve;
  });
  // Not the close of HTTP servers: it closes sockets as idle whose first request is on its way.
  const close = (): void => void NetServer.prototype.close.call(server, tellClosed);
  const handle = handleOf(server);
  if (handle === null || cluster.isWorker)
    close(); // the supervisor listens
  else await closeWhileEmpty(handle, close);
  const timer = setTimeout(() => server.closeAllConnections(), Math.max(0, endsAt - performance.now()));
  const closedAt = performance.now();
  const idle = setInterval(() => {
    const forMs = performance.now() - closedAt;
    if (forMs >= LAST_REQUEST_MS && (arrivals.unasked() === 0 || forMs >= FIRST_REQUEST_MS)) server.closeIdleConnections();
  }, LOOK_MS);
  await closed;
  clearTimeout(timer);
  clearInterval(idle);
}
