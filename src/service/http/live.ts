import type { RequestHandler, Response } from 'express';
import { Fault } from '../../core/fault.ts';
import type { Ports } from '../ports.ts';
import type { StampStore } from '../store/stamps.ts';
import type { Sessions } from './sessions.ts';

/** How often the database is asked whether anything changed, while someone watches. */
const LOOK_MS = 1_000;
/** A comment now and then keeps proxies from closing the stream (HTML Living Standard §9.2.7). */
const BEAT_MS = 15_000;
/** A session that ended meanwhile ends its stream. */
const SESSION_MS = 30_000;
const MAX_STREAMS = 200;
/** Of one account: nobody takes all of them. */
const STREAMS_OF_ONE = 20;
/** What a client that does not read may leave waiting. */
const MAX_UNREAD_BYTES = 16_384;

interface Stream {
  response: Response;
  operatorId: string;
  /** False: whoever watches is not signed in any more. */
  mayStay(): Promise<boolean>;
}

export interface LiveEvents {
  handle: RequestHandler;
  stop(): void;
}

/**
 * `GET /api/v1/events`: server-sent events that say that something changed, never what: the console then reads again what it shows. One
 * statement a second serves all who watch at this replica, and none where nobody does.
 */
export function liveEvents({ stamps, sessions, ports }: { stamps: StampStore; sessions: Sessions; ports: Pick<Ports, 'log'> }): LiveEvents {
  const streams = new Set<Stream>();
  let timers: NodeJS.Timeout[] = [];
  let last: string | null = null;
  let looking = false;

  const send = (text: string): void => {
    for (const stream of streams) {
      if (stream.response.writableLength > MAX_UNREAD_BYTES) stream.response.destroy();
      else stream.response.write(text);
    }
  };
  const look = async (): Promise<void> => {
    if (looking) return;
    looking = true;
    try {
      const stamp = await stamps.read();
      if (last !== null && stamp !== last) send('event: changed\ndata: {}\n\n');
      last = stamp;
    } catch (cause) {
      ports.log.debug({ event: 'http.live_not_read', cause: String(cause) }, 'no news for the console: the database does not answer');
    } finally {
      looking = false;
    }
  };
  const checkSessions = async (): Promise<void> => {
    for (const stream of streams) if (!(await stream.mayStay().catch(() => true))) stream.response.end();
  };
  const begin = (): void => {
    timers = [
      setInterval(() => void look(), LOOK_MS),
      setInterval(() => send(': still here\n\n'), BEAT_MS),
      setInterval(() => void checkSessions(), SESSION_MS),
    ];
    void look();
  };
  const end = (): void => {
    timers.forEach(clearInterval);
    timers = [];
    last = null;
  };
  return {
    async handle(request, response) {
      const operator = await sessions.operator(request);
      if (operator === null) throw new Fault('SIGN_IN_NEEDED');
      const own = [...streams].filter((one) => one.operatorId === operator.id).length;
      if (own >= STREAMS_OF_ONE) throw new Fault('STREAMS_FULL', { detail: `Your account has ${own} pages of the console open at this replica. Close some.` });
      if (streams.size >= MAX_STREAMS) throw new Fault('STREAMS_FULL', { detail: `${MAX_STREAMS} pages of the console are open at this replica.` });
      response.writeHead(200, { 'content-type': 'text/event-stream; charset=utf-8', 'cache-control': 'no-store', 'x-accel-buffering': 'no' });
      response.write('retry: 2000\nevent: ready\ndata: {}\n\n');
      const stream: Stream = { response, operatorId: operator.id, mayStay: async () => (await sessions.operator(request)) !== null };
      streams.add(stream);
      if (streams.size === 1) begin();
      response.on('close', () => {
        streams.delete(stream);
        if (streams.size === 0) end();
      });
    },
    stop() {
      for (const { response } of streams) response.end();
    },
  };
}
