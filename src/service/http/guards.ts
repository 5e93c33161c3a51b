import { randomUUID } from 'node:crypto';
import type { RequestHandler } from 'express';
import helmet from 'helmet';
import { Fault } from '../../core/fault.ts';
import type { BodyDeadline } from '../body-deadline.ts';
import type { Log } from '../ports.ts';
import { requestIdOf } from '../problems.ts';

/** Headers that every answer carries. */
export const securityHeaders = (secure: boolean): RequestHandler =>
  helmet({
    contentSecurityPolicy: {
      useDefaults: false,
      directives: {
        defaultSrc: ["'none'"],
        scriptSrc: ["'self'"],
        styleSrc: ["'self'", "'unsafe-inline'"],
        fontSrc: ["'self'"],
        imgSrc: ["'self'", 'data:'],
        connectSrc: ["'self'"],
        formAction: ["'self'"],
        frameAncestors: ["'none'"],
        baseUri: ["'none'"],
      },
    },
    strictTransportSecurity: secure ? { maxAge: 31_536_000 } : false,
    referrerPolicy: { policy: 'no-referrer' },
    xFrameOptions: { action: 'deny' },
    crossOriginResourcePolicy: { policy: 'same-origin' },
  });

/** One log line for each request, and a limit to how long a body may be on its way. */
export const watched =
  (log: Log, bodies: BodyDeadline): RequestHandler =>
  (request, response, next) => {
    const startedAt = performance.now();
    response.setHeader('x-request-id', randomUUID());
    response.on('finish', () => {
      // The route's pattern, never the address: that may hold a ticket, a code or a state.
      const route = (request.route as { path?: string } | undefined)?.path ?? (request.path.startsWith('/api/') ? '(no route)' : '(file)');
      log[response.statusCode >= 500 ? 'warn' : 'debug'](
        {
          event: 'http.request',
          requestId: requestIdOf(response),
          method: request.method,
          route,
          status: response.statusCode,
          ms: Math.round(performance.now() - startedAt),
        },
        'request',
      );
    });
    if (request.headers['content-length'] !== undefined || request.headers['transfer-encoding'] !== undefined)
      bodies.watch(request, () => {
        if (response.headersSent) return void request.socket.destroy(); // a response that is over no longer knows its socket
        response.setHeader('connection', 'close'); // what was not read would be taken for the next request
        next(new Fault('BODY_TIMEOUT'));
      });
    next();
  };
