import type { ErrorRequestHandler, Request, Response } from 'express';
import { PROBLEM_TYPE_PREFIX, type Problem } from '../api/problem.ts';
import { Fault } from '../core/fault.ts';
import { FAULTS } from '../core/fault-table.ts';
import type { Log } from './ports.ts';

/** A Fault as RFC 9457 problem details. */
export function problemOf(fault: Fault, requestId: string): Problem {
  return {
    type: `${PROBLEM_TYPE_PREFIX}${fault.code.toLowerCase().replaceAll('_', '-')}`,
    title: FAULTS[fault.code].says,
    status: fault.status,
    ...(fault.detail ? { detail: fault.detail } : {}),
    remedy: fault.remedy,
    code: fault.code,
    request_id: requestId,
    ...(fault.places.length > 0 ? { places: fault.places } : {}),
    ...(fault.secondFactor ? { second_factor: fault.secondFactor } : {}),
  };
}

/** Errors of Express's own parsers, told apart by their `type`, as Faults. */
function fromParser(error: unknown): Fault | null {
  const type = (error as { type?: unknown }).type;
  if (type === 'entity.too.large') return new Fault('INPUT_TOO_LARGE');
  if (type === 'entity.parse.failed') return new Fault('INPUT_INVALID', { detail: 'The body is not JSON.' });
  if (type === 'request.aborted' || type === 'request.size.invalid') return new Fault('BODY_TRUNCATED');
  if (type === 'encoding.unsupported' || type === 'charset.unsupported') return new Fault('CONTENT_TYPE_WRONG');
  // Such as a body that is not encoded as its content-encoding says.
  const { status } = error as { status?: unknown };
  if (typeof status === 'number' && status >= 400 && status < 500) return new Fault('INPUT_INVALID', { detail: 'The body cannot be read as it is encoded.' });
  if (error instanceof URIError) return new Fault('INPUT_INVALID', { detail: 'The address is not well encoded.' });
  return null;
}

export const requestIdOf = (response: Response): string => String(response.getHeader('x-request-id') ?? '');

/** The one place where errors become answers: pages for browsers on their way through a consent or a tool's sign-in, problems for programs. */
export function errorHandler(log: Log, page: (fault: Fault, requestId: string) => string): ErrorRequestHandler {
  return (error: unknown, request: Request, response: Response, next) => {
    if (response.headersSent) return next(error);
    const requestId = requestIdOf(response);
    const fault = error instanceof Fault ? error : (fromParser(error) ?? new Fault('INTERNAL', { cause: error }));
    if (fault.code === 'INTERNAL') log.error({ event: 'http.request_failed', requestId, cause: safeStack(fault.cause ?? fault) }, 'request failed');
    if (fault.retryAfterMs !== undefined) response.setHeader('retry-after', String(Math.max(1, Math.ceil(fault.retryAfterMs / 1000))));
    response.status(fault.status).setHeader('cache-control', 'no-store');
    const wantsPage = /^\/(consent\/|sign-in\/|oauth\/callback\/|oauth\/authorize$)/.test(request.path);
    if (wantsPage) response.type('html').send(page(fault, requestId));
    else response.type('application/problem+json').send(JSON.stringify(problemOf(fault, requestId)));
  };
}

/** Name and stack without the message: a foreign message may quote what it choked on. */
const safeStack = (error: unknown): string => {
  if (!(error instanceof Error)) return typeof error;
  return [
    error.name,
    ...(error.stack ?? '')
      .split('\n')
      .filter((line) => /^\s+at /.test(line))
      .slice(0, 8),
  ].join('\n');
};
