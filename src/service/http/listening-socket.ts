import { subscribe } from 'node:diagnostics_channel';
import { readFileSync } from 'node:fs';
import { connect, type Server, type Socket } from 'node:net';
import { setTimeout as sleep } from 'node:timers/promises';

/** What Node.js keeps of a socket that listens, or connects: undocumented, and the same for ten years. */
export interface SocketHandle {
  listen(backlog: number): number;
  getsockname(into: { address?: string; port?: number }): number;
  getpeername(into: object): number;
  close(): void;
}

/** Node.js's own. */
const BACKLOG = 511;
const TRY_EVERY_MS = 5;
/** From far away somebody is always amid a handshake: after the first time those do not count, after the second nothing does. */
const MAX_TRY_MS = 4_000;
const GIVE_UP_MS = 5_000;
const EVERYWHERE: Record<string, string> = { '0.0.0.0': '127.0.0.1', '::': '::1' };

export const handleOf = (socket: Server | Socket): SocketHandle | null => (socket as unknown as { _handle: SocketHandle | null })._handle;

/** The socket on which the primary of a cluster listens at `port` for its workers: Node.js shows it to nobody but diagnostics. */
export function watchClusterSocket(port: number): () => SocketHandle | null {
  let found: SocketHandle | null = null;
  subscribe('tracing:net.server.listen:asyncEnd', (message) => {
    const handle = handleOf((message as { server: Server }).server);
    if (handle && addressOf(handle)?.port === port) found = handle;
  });
  return () => found;
}

/** Null: it has no port. */
function addressOf(handle: SocketHandle): { address: string; port: number } | null {
  const own: { address?: string; port?: number } = {};
  const { address, port } = handle.getsockname?.(own) === 0 ? own : {};
  return address === undefined || port === undefined ? null : { address, port };
}

/**
 * Closes a listening socket while nobody is in the kernel's queue: whoever was, connected and not accepted yet, would be reset. The queue is cut to
 * two places, and we connect twice: if both got in, nobody else is there, and nobody else comes in until one of ours is accepted. Whom the kernel
 * did not let in tries again within a second, and is refused then. Whoever is amid the handshake may count as connected already: it is let in
 * first, through a queue as long as ever.
 */
export async function closeWhileEmpty(handle: SocketHandle, close: () => void): Promise<void> {
  const own = addressOf(handle);
  const startedAt = performance.now();
  for (let forMs = 0; own && forMs < GIVE_UP_MS; forMs = performance.now() - startedAt) {
    await sleep(TRY_EVERY_MS); // what had come is accepted
    handle.listen(1);
    const two = [0, 1].map(() => connect({ host: EVERYWHERE[own.address] ?? own.address, port: own.port }));
    for (const one of two) one.on('error', () => undefined);
    await new Promise<void>((resolve) => process.nextTick(resolve)); // connects in the next tick; nothing is accepted before this turn ends
    const isFull = two.every((one) => handleOf(one)?.getpeername({}) === 0);
    const isOver = isFull && (forMs > MAX_TRY_MS || !isShakingHands(own.port));
    if (isOver) close();
    for (const one of two) one.destroy();
    if (isOver) return;
    // Short, it keeps newcomers out until nobody waits; only who is amid the handshake needs room.
    if (isFull) handle.listen(BACKLOG);
  }
  close();
}

/** Whether the kernel answered someone at the port, and waits for the last part of the handshake (state 03: SYN_RECV). */
function isShakingHands(port: number): boolean {
  const here = `:${port.toString(16).toUpperCase().padStart(4, '0')}`;
  return ['/proc/net/tcp', '/proc/net/tcp6'].some((table) => {
    let text = '';
    try {
      text = readFileSync(table, 'utf8');
    } catch {
      return false; // another system, or one without IPv6
    }
    return text.split('\n').some((row) => {
      const [, local = '', , state] = row.trim().split(/\s+/, 4);
      return state === '03' && local.endsWith(here);
    });
  });
}
