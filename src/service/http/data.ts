import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import type { Request, RequestHandler, Response } from 'express';
import { Fault } from '../../core/fault.ts';
import { FORMATS, type Format, MEDIA_TYPES } from '../../core/output/formats.ts';
import { type BackupParts, backupFile } from '../backup/index.ts';
import { fileBytes, gzipBytes, type JobParts, runResult, servedResult, textOf } from '../jobs/index.ts';
import type { SignedInOperator } from '../operation-call.ts';
import { checkLimits, checkRole, type Operators } from '../operators/index.ts';
import type { RunRow } from '../store/runs.ts';
import type { Store } from '../store/store.ts';
import type { WhoCalls } from '../tokens/index.ts';
import type { Sessions } from './sessions.ts';

type DataParts = JobParts & { store: Pick<Store, 'notices'> };

const isFormat = (word: string): word is Format => (FORMATS as readonly string[]).includes(word);

/** @throws {Fault} NOT_FOUND for another ending than that of a format */
const formatOf = (request: Request): Format => {
  const format = String(request.params.format);
  if (isFormat(format)) return format;
  throw new Fault('NOT_FOUND', { detail: `Results end in ${FORMATS.map((one) => `.${one}`).join(', ')}.` });
};

/**
 * The latest complete result of a job: for a caller with its key, or for an operator. One stable address, which always answers with a whole
 * result; conditional and range requests by RFC 9110 §13 and §14.
 */
export const latestResult =
  (s: DataParts, { sessions, whoCalls }: { sessions: Sessions; whoCalls: WhoCalls }): RequestHandler =>
  async (request, response) => {
    const format = formatOf(request);
    const operator = await sessions.operator(request);
    const { authorization } = request.headers;
    // A personal token of an operator goes in the same header as a caller's key: then no caller is meant.
    const caller = operator || authorization === undefined ? null : (await whoCalls(authorization, request.ip ?? '')).caller;
    if (!operator && !caller) {
      response.setHeader('www-authenticate', 'Basic realm="Rusty Kettle", charset="UTF-8"');
      throw new Fault('CALLER_UNKNOWN', { detail: 'Send a caller\u2019s id and key.' });
    }
    if (operator) await mayTake(s, operator, 'job', String(request.params.job));
    const { row, job } = await servedResult(s, caller, String(request.params.job));
    response.setHeader('content-disposition', `attachment; filename="${job.name}.${format}"`);
    await send(s, { request, response }, row, format);
    noteExport(s, response, { actor: caller?.name ?? operator?.name ?? 'unknown', isProgram: caller !== null, subject: `job:${job.name}`, row, format });
  };

/** The result of one run, for an operator. */
export const runFile =
  (s: DataParts, sessions: Sessions): RequestHandler =>
  async (request, response) => {
    const operator = await sessions.operator(request);
    if (!operator) throw new Fault('SIGN_IN_NEEDED');
    await mayTake(s, operator, 'run', String(request.params.run));
    const { row, job } = await runResult(s, String(request.params.run));
    const format = formatOf(request);
    response.setHeader('content-disposition', `attachment; filename="${job?.name ?? 'collection'}-${row.number}.${format}"`);
    await send(s, { request, response }, row, format);
    noteExport(s, response, { actor: operator.name, isProgram: false, subject: job ? `job:${job.name}` : 'installation', row, format });
  };

/** The file of a backup: encrypted, and still for administrators alone. */
export const backupDownload =
  (s: BackupParts & DataParts, { sessions, operators }: { sessions: Sessions; operators: Pick<Operators, 'needConfirmed'> }): RequestHandler =>
  async (request, response) => {
    const operator = await sessions.operator(request);
    if (!operator) throw new Fault('SIGN_IN_NEEDED');
    const rule = { role: 'administrator', limit: 'installation', confirms: true } as const;
    checkRole(operator, rule);
    await checkLimits(s, operator, rule, { references: [], body: undefined });
    operators.needConfirmed(operator);
    const { row, stream: bytes } = await backupFile(s, String(request.params.backup));
    response.setHeader('content-type', 'application/octet-stream');
    response.setHeader('content-disposition', `attachment; filename="${row.file}"`);
    response.setHeader('cache-control', 'no-store');
    response.setHeader('content-length', String(row.bytes));
    s.history.add({ actor: operator.name, kind: 'backup_fetched', subject: 'installation', says: `Fetched the backup ${row.file}.` });
    await stream(request, response, bytes);
  };

/** Taking data away is no viewer's; and what is outside an account's limits is not there. @throws {Fault} ROLE_TOO_LOW, NOT_FOUND */
async function mayTake(s: DataParts, operator: SignedInOperator, to: 'job' | 'run', name: string): Promise<void> {
  const rule = { role: 'operator', limit: 'references' } as const;
  checkRole(operator, rule);
  await checkLimits(s, operator, rule, { references: [{ to, names: [name], place: 'path' }], body: undefined });
}

/** Who took data away, and which; what had not changed since the last time is no export. Programs' are routine: they come every minute. */
function noteExport(
  s: JobParts,
  response: Response,
  { actor, isProgram, subject, row, format }: { actor: string; isProgram: boolean; subject: string; row: RunRow; format: Format },
): void {
  if (response.statusCode >= 300) return;
  const says = `Fetched the result of run ${row.number} as ${format}.`;
  s.history.add({ actor: isProgram ? `caller:${actor}` : actor, kind: 'result_fetched', subject, says, data: { run: row.id }, routine: isProgram });
}

async function send(s: JobParts, { request, response }: { request: Request; response: Response }, row: RunRow, format: Format): Promise<void> {
  const size = await s.store.runs.fileSize(row.id, format);
  const isZipped = size !== null && request.headers.range === undefined && request.acceptsEncodings('gzip', 'identity') === 'gzip';
  response.setHeader('content-type', MEDIA_TYPES[format]);
  response.setHeader('cache-control', 'private, no-cache');
  response.setHeader('vary', 'authorization, cookie, accept-encoding');
  response.setHeader('etag', `"${row.id}-${format}${isZipped ? '-gzip' : ''}"`);
  response.setHeader('last-modified', new Date(row.endedAt ?? row.startedAt).toUTCString());
  response.setHeader('rusty-kettle-run', String(row.number));
  response.setHeader('rusty-kettle-collected', new Date(row.startedAt).toISOString());
  response.setHeader('rusty-kettle-records', String(row.outcome?.written ?? row.checkpoint.kept));
  response.setHeader('rusty-kettle-verdict', row.outcome?.completeness?.verdict ?? 'cannot_tell');
  if (isPreconditionFailed(request, response)) return void response.status(412).end();
  if (request.fresh) return void response.status(304).end();
  if (size === null) return stream(request, response, text(s, row, format));
  response.setHeader('accept-ranges', 'bytes');
  if (isZipped) {
    response.setHeader('content-encoding', 'gzip');
    return stream(request, response, gzipBytes(s.store.runs, row.id, format));
  }
  const range = rangeOf(request, response, size);
  if (range === 'none') {
    response.setHeader('content-range', `bytes */${size}`);
    return void response.status(416).end();
  }
  const { from, to } = range ?? { from: 0, to: size };
  if (range) response.status(206).setHeader('content-range', `bytes ${from}-${to - 1}/${size}`);
  response.setHeader('content-length', String(to - from));
  return stream(request, response, fileBytes(s.store.runs, row.id, format, { from, to }));
}

/** One range is answered as such; several, or one of another version (If-Range), as a whole. */
function rangeOf(request: Request, response: Response, size: number): { from: number; to: number } | null | 'none' {
  const condition = request.headers['if-range'];
  if (
    request.headers.range === undefined ||
    (typeof condition === 'string' && condition !== response.getHeader('etag') && condition !== response.getHeader('last-modified'))
  )
    return null;
  const ranges = request.range(size);
  if (ranges === -1) return 'none';
  if (ranges === undefined || ranges === -2 || ranges.type !== 'bytes' || ranges.length !== 1 || !ranges[0]) return null;
  return { from: ranges[0].start, to: ranges[0].end + 1 };
}

/** RFC 9110 §13.1.1 and §13.1.4: If-Match, If-Unmodified-Since. */
function isPreconditionFailed(request: Request, response: Response): boolean {
  const match = request.headers['if-match'];
  if (match !== undefined) return match !== '*' && !match.split(',').some((one) => one.trim() === response.getHeader('etag'));
  const since = Date.parse(request.headers['if-unmodified-since'] ?? '');
  return Number.isFinite(since) && Date.parse(String(response.getHeader('last-modified'))) > since;
}

async function* text(s: JobParts, row: RunRow, format: Format): AsyncGenerator<string> {
  for await (const piece of textOf(s.store.runs, row, format)) if (piece.text !== '') yield piece.text;
}

/** A body that breaks off is cut, so that nobody takes it for whole: its length, or its last chunk, is missing. */
async function stream(request: Request, response: Response, pieces: AsyncIterable<Buffer | string>): Promise<void> {
  if (request.method === 'HEAD') return void response.end();
  await pipeline(Readable.from(pieces, { objectMode: false }), response).catch((cause: unknown) => {
    if (!response.headersSent) throw cause;
    response.destroy(); // the client went away, or the database did
  });
}
