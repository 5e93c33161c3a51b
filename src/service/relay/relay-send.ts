import type { IncomingMessage, ServerResponse } from 'node:http';
import type { Readable } from 'node:stream';
import type { Dispatcher } from 'undici';
import { sendWhole } from '../send-whole.ts';

/** How a call that was sent on ended. `held`: the answer was kept back for the caller of this function to decide on. */
export type Sent =
  | { end: 'done'; status: number; bytes: number; seen?: Seen | undefined }
  | { end: 'held'; status: number; headers: Headers; body: Buffer }
  | { end: 'hung_up'; status: number | null }
  | { end: 'broke'; status: number | null; code: string }
  | { end: 'slow'; status: number | null };
type Headers = Record<string, string | string[] | undefined>;
/** The beginning of an answer that was not good, for a verdict; it went on to the caller as it came. */
interface Seen {
  headers: Headers;
  start: Buffer;
}

export interface ToSend {
  origin: string;
  path: string;
  method: string;
  headers: string[];
  body: Readable | Buffer | null;
  /** The longest wait for the head of the answer, and between two pieces of its body, in ms. */
  waitMs: number;
  /** The longest time for all of it, in ms. */
  mostMs: number;
  /** True for an answer that is to be kept back while it is at most `heldMost` bytes long. */
  holds(status: number, headers: Headers): boolean;
  /** Headers for the caller: names and values in turn. */
  back(headers: Headers): string[];
}

const MAX_HELD = 64 * 1024;
/** A body up to this that comes in one piece is sent together with its head. */
const MAX_WHOLE = 16 * 1024;
const MAX_SEEN = 4 * 1024;

/** The length that an answer's head names, or null. */
const lengthOf = (headers: Headers): number | null => {
  const text = headers['content-length'];
  return typeof text === 'string' && /^\d{1,15}$/.test(text) ? Number(text) : null;
};

/** Names and values in turn, without the length. */
const withoutLength = (back: string[]): string[] => back.filter((_one, at) => (at % 2 === 0 ? back[at] : back[at - 1])?.toLowerCase() !== 'content-length');

/**
 * Sends one call on and streams its answer back as it comes: a caller that reads slowly slows the API's connection, and nothing is
 * gathered in between. A break in mid-body breaks the caller's connection too: a cut answer must not look whole.
 */
export function sendOn(dispatcher: Dispatcher, request: IncomingMessage, response: ServerResponse, what: ToSend): Promise<Sent> {
  return new Promise((resolve) => {
    let status: number | null = null;
    let bytes = 0;
    let held: Buffer[] | null = null;
    let heldHeaders: Headers = {};
    let seen: Seen | undefined;
    /** The length that the answer names; null: none, or the answer is held. */
    let named: number | null = null;
    let isWhole = false;
    let isOver = false;
    let isLate = false;
    let stop: ((reason: Error) => void) | null = null;
    const end = (sent: Sent): void => {
      if (isOver) return;
      isOver = true;
      clearTimeout(timer);
      response.off('close', hungUp);
      response.off('drain', resume);
      resolve(sent);
    };
    const hungUp = (): void => {
      stop?.(new Error('the caller hung up'));
      end({ end: 'hung_up', status });
    };
    const timer = setTimeout(() => {
      isLate = true;
      stop?.(new Error('the time for a relayed call is over'));
      if (response.headersSent) response.destroy();
      end({ end: 'slow', status });
    }, what.mostMs);
    let resume: () => void = () => undefined;
    response.on('close', hungUp);
    const start = (code: number, headers: Headers): void => {
      const back = what.back(headers);
      response.writeHead(code, code === 204 ? withoutLength(back) : back); // RFC 9110 §8.6: a 204 names no length
    };
    dispatcher.dispatch(
      {
        origin: what.origin,
        path: what.path,
        method: what.method as 'GET',
        headers: what.headers,
        body: what.body,
        headersTimeout: what.waitMs,
        bodyTimeout: what.waitMs,
      },
      {
        onRequestStart(controller) {
          stop = (reason) => controller.abort(reason);
          resume = () => controller.resume();
          response.on('drain', resume);
          if (isOver) controller.abort(new Error('over'));
        },
        onResponseStart(_controller, code, headers) {
          if (code < 200) return; // an interim answer speaks of the connection between us and the API
          status = code;
          if (code >= 400) seen = { headers, start: Buffer.alloc(0) };
          if (what.holds(code, headers)) {
            held = [];
            heldHeaders = headers;
          } else {
            named = request.method === 'HEAD' ? null : lengthOf(headers);
            start(code, headers);
          }
        },
        onResponseData(controller, chunk) {
          bytes += chunk.length;
          if (seen && seen.start.length < MAX_SEEN) seen.start = Buffer.concat([seen.start, chunk.subarray(0, MAX_SEEN - seen.start.length)]);
          if (held) {
            held.push(chunk);
            if (bytes <= MAX_HELD) return;
            const [first, ...rest] = [Buffer.concat(held)]; // longer than it looked: no longer kept back
            held = null;
            start(status ?? 200, heldHeaders);
            for (const part of [first, ...rest]) if (part && !response.write(part)) controller.pause();
            return;
          }
          if (chunk.length === named && bytes === named && named <= MAX_WHOLE) {
            isWhole = true;
            response.off('close', hungUp);
            sendWhole(response, chunk.toString('latin1'), 'latin1');
          } else if (!response.write(chunk)) controller.pause();
        },
        onResponseEnd() {
          if (held) return end({ end: 'held', status: status ?? 200, headers: heldHeaders, body: Buffer.concat(held) });
          response.off('close', hungUp);
          if (!isWhole) response.end();
          end({ end: 'done', status: status ?? 200, bytes, seen });
        },
        onResponseError(_controller, error) {
          if (isOver) return;
          const code = String((error as NodeJS.ErrnoException).code ?? '');
          // RFC 9110 §8.6: a 304 names the length that a 200 would have had, and has no body.
          if (code === 'UND_ERR_RES_CONTENT_LENGTH_MISMATCH' && (status === 304 || status === 204) && bytes === 0) {
            response.off('close', hungUp);
            response.end();
            return end({ end: 'done', status, bytes: 0 });
          }
          if (request.destroyed && !request.complete) return end({ end: 'hung_up', status });
          // Part of it is with the caller already: breaking its connection is the only honest end.
          if (response.headersSent) response.destroy();
          end(isLate || /TIMEOUT/.test(code) ? { end: 'slow', status } : { end: 'broke', status, code });
        },
      },
    );
  });
}
