import type { IncomingMessage, ServerResponse } from 'node:http';
import { Fault } from '../../core/fault.ts';
import type { Ports } from '../ports.ts';
import { problemOf } from '../problems.ts';

export const hasBody = (request: IncomingMessage): boolean =>
  request.headers['transfer-encoding'] !== undefined || Number(request.headers['content-length'] ?? 0) > 0;

/** Answers why a call was not relayed, or breaks the caller's connection where part of an answer is with it already. */
export function refuse(response: ServerResponse, error: unknown, { requestId, log }: { requestId: string; log: Ports['log'] }): void {
  if (response.req.destroyed && !response.req.complete) return; // the caller hung up while it was still sending
  const fault = error instanceof Fault ? error : new Fault('INTERNAL', { cause: error });
  if (fault.code === 'INTERNAL')
    log.error(
      { event: 'relay.failed', requestId, cause: error instanceof Error ? `${error.name}: ${(error.stack ?? '').split('\n')[1] ?? ''}` : 'unknown' },
      'relay failed',
    );
  if (response.headersSent) return void response.destroy();
  const body = JSON.stringify(problemOf(fault, requestId));
  response.writeHead(fault.status, [
    ...['content-type', 'application/problem+json', 'cache-control', 'no-store', 'x-content-type-options', 'nosniff', 'x-request-id', requestId],
    ...['content-length', String(Buffer.byteLength(body))],
    ...(fault.retryAfterMs === undefined ? [] : ['retry-after', String(Math.max(1, Math.ceil(fault.retryAfterMs / 1000)))]),
    ...(fault.status === 401 ? ['www-authenticate', 'Basic realm="rusty-kettle"'] : []),
    // What was not read of the request would be taken for the next one.
    ...(response.req.complete || !hasBody(response.req) ? [] : ['connection', 'close']),
  ]);
  response.end(body);
}

/** Why the API was not reached, from the code of the error. */
export const whyBroke = (code: string): string => {
  if (/ENOTFOUND|EAI_AGAIN/.test(code)) return 'The name of its host does not resolve.';
  if (code === 'ADDRESS_FORBIDDEN') return 'Its address is a private one, which this service does not call unless a setting allows it.';
  if (/CERT|TLS|SSL|SELF_SIGNED|VERIFY/.test(code)) return 'Its TLS certificate is not good.';
  if (code === 'ECONNREFUSED') return 'Its host rejects the connection.';
  return 'The connection broke, or what came was no HTTP.';
};
