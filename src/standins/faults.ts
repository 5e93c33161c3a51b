import { setTimeout as sleep } from 'node:timers/promises';
import type { NextFunction, Request, RequestHandler, Response } from 'express';
import { z } from 'zod';

/** What a stand-in can be told to do wrong, where, and how often. */
export const FaultOrder = z.strictObject({
  at: z.enum(['token', 'userinfo', 'api']),
  kind: z.enum([
    'status',
    'oauth_error',
    'html',
    'slow',
    'cut_before',
    'cut_after',
    'hold_answer',
    'cut_mid',
    'false_gzip',
    'endless',
    'redirect',
    'echo',
    'text',
  ]),
  times: z.number().int().min(1).max(100_000).default(1),
  status: z.number().int().min(200).max(599).default(500),
  /** The body of a `text`, or where a `redirect` leads. */
  text: z.string().max(10_000).default(''),
  error: z.string().max(60).default('invalid_request'),
  delay_ms: z.number().int().min(0).max(120_000).default(0),
  retry_after_seconds: z.number().int().min(0).max(7200).optional(),
});
export type FaultOrder = z.output<typeof FaultOrder>;

export interface Faults {
  order(fault: FaultOrder): void;
  clear(): void;
  /** Runs before the real handler of a place. */
  guard(at: FaultOrder['at']): RequestHandler;
  /** Runs when the work is done and the answer about to leave. True: go on and answer. */
  beforeAnswer(response: Response): Promise<boolean>;
}

const ENDLESS_MS = 60_000;
/** An answer that never ends on its own; it is bounded here, so that a discarded one does not run for ever. */
function sendWithoutEnd(response: Response): void {
  const endsAt = Date.now() + ENDLESS_MS;
  const part = `${'x'.repeat(16_383)}\n`;
  const more = (): void => {
    if (response.destroyed || Date.now() > endsAt) return void response.destroy();
    if (response.write(part)) setTimeout(more, 5);
    else response.once('drain', more);
  };
  response.writeHead(200, { 'content-type': 'text/plain' });
  more();
}

export function faults(): Faults {
  let orders: FaultOrder[] = [];
  const take = (at: FaultOrder['at']): FaultOrder | undefined => {
    const order = orders.find((one) => one.at === at);
    if (order) {
      order.times -= 1;
      orders = orders.filter((one) => one.times > 0);
    }
    return order;
  };
  return {
    order: (fault) => void orders.push({ ...fault }),
    clear: () => {
      orders = [];
    },
    guard: (at) => async (request: Request, response: Response, next: NextFunction) => {
      const order = take(at);
      if (!order) return next();
      response.locals.fault = order;
      switch (order.kind) {
        case 'status':
          if (order.retry_after_seconds !== undefined) response.setHeader('retry-after', String(order.retry_after_seconds));
          return void response.status(order.status).type('text/plain').send('The stand-in was told to fail.');
        case 'oauth_error':
          return void response.status(order.status).json({ error: order.error, error_description: 'The stand-in was told to reject.' });
        case 'html':
          return void response.status(200).type('html').send('<!doctype html><title>Maintenance</title><h1>Back soon</h1>');
        case 'slow':
          await sleep(order.delay_ms);
          return next();
        case 'cut_before':
          return void request.socket.destroy();
        case 'cut_mid':
          response.writeHead(200, { 'content-type': 'application/json', 'content-length': '100000' });
          response.write('{"records":["the first half');
          return void setTimeout(() => request.socket.destroy(), 50);
        case 'false_gzip':
          return void response.writeHead(200, { 'content-type': 'application/json', 'content-encoding': 'gzip' }).end('{"said":"gzip","sent":"plain"}');
        case 'endless':
          return void sendWithoutEnd(response);
        case 'redirect':
          return void response.writeHead(302, { location: order.text, 'set-cookie': 'theirs=1; Path=/', 'clear-site-data': '"*"' }).end();
        case 'echo':
          return void response
            .set({ 'x-echo': request.rawHeaders.join(' '), 'set-cookie': 'theirs=1; Path=/' })
            .json({ method: request.method, url: request.originalUrl, headers: request.headers });
        case 'text':
          return void response.status(order.status).type('application/json').send(order.text);
        default:
          return next(); // cut_after and hold_answer strike when the work is done
      }
    },
    async beforeAnswer(response) {
      const order = response.locals.fault as FaultOrder | undefined;
      if (order?.kind === 'hold_answer') await sleep(order.delay_ms);
      if (order?.kind !== 'cut_after') return true;
      response.req.socket.destroy();
      return false;
    },
  };
}
