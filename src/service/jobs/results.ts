import { promisify } from 'node:util';
import { gunzip } from 'node:zlib';
import { type Writer, writerOf } from '../../core/output/format.ts';
import type { Format } from '../../core/output/formats.ts';
import { ID_BYTES, IdSet, keysOf } from '../../core/paging/id-set.ts';
import type { RunLease, RunRow, RunStore, StagedPage } from '../store/runs.ts';
import { fileParts } from './file-parts.ts';
import { idsOfPages, unstage } from './staging.ts';

const unzip = promisify(gunzip);
const PAGES_AT_ONCE = 8;

type Kept = Map<string, boolean[]>;

/**
 * Which records of a chain of runs belong to the result: of several with one id, the newest. Keyed by run and page; a page that is missing
 * is kept whole.
 */
async function newestOf(store: Pick<RunStore, 'ids'>, chain: readonly string[]): Promise<Kept> {
  const kept: Kept = new Map();
  if (chain.length < 2) return kept; // one run has no doubles
  const seen = new IdSet();
  for (const runId of [...chain].reverse())
    for await (const { sequence, ids } of idsOfPages(store, runId)) {
      const marks: boolean[] = [];
      const keys = keysOf(ids);
      for (let at = 0; at < ids.length; at += ID_BYTES) marks.push(seen.add(keys, at));
      if (marks.includes(false)) kept.set(`${runId} ${sequence}`, marks);
    }
  return kept;
}

/** Kept pages of a run, in their order; the next ones are read while these are used. */
async function* pagesOf(store: Pick<RunStore, 'pages'>, runId: string): AsyncGenerator<StagedPage> {
  let next = store.pages(runId, 0, PAGES_AT_ONCE);
  for (;;) {
    const pages = await next;
    const last = pages.at(-1);
    const isLast = !last || pages.length < PAGES_AT_ONCE;
    if (!isLast) {
      next = store.pages(runId, last.sequence, PAGES_AT_ONCE);
      next.catch(() => undefined); // thrown where it is awaited
    }
    yield* pages;
    if (isLast) return;
  }
}

/** The records of a result, page by page, earlier runs first. */
export async function* recordsOf(store: Pick<RunStore, 'ids' | 'pages'>, row: Pick<RunRow, 'id' | 'plan'>): AsyncGenerator<unknown[]> {
  const chain = [...row.plan.base, row.id];
  const kept = await newestOf(store, chain);
  for (const runId of chain)
    for await (const page of pagesOf(store, runId)) {
      const marks = kept.get(`${runId} ${page.sequence}`);
      const records = await unstage(page);
      yield marks ? records.filter((_record, at) => marks[at] !== false) : records;
    }
}

/** All columns of a result: of an appended one, also those of earlier runs. */
export async function columnsOf(store: Pick<RunStore, 'byIds'>, row: Pick<RunRow, 'plan' | 'checkpoint'>): Promise<string[]> {
  const earlier = await store.byIds(row.plan.base);
  const order = new Map(row.plan.base.map((id, at) => [id, at]));
  const names = new Set(earlier.sort((a, b) => (order.get(a.id) ?? 0) - (order.get(b.id) ?? 0)).flatMap((one) => one.checkpoint.columns));
  return [...new Set([...names, ...row.checkpoint.columns])];
}

/** A result as text, in pieces. */
export async function* textOf(
  store: Pick<RunStore, 'ids' | 'pages' | 'byIds'>,
  row: RunRow,
  format: Format,
): AsyncGenerator<{ text: string; records: number }> {
  const writer: Writer = writerOf(format, row.plan.layout, await columnsOf(store, row));
  yield { text: writer.head(), records: 0 };
  let isFirst = true;
  for await (const records of recordsOf(store, row)) {
    if (records.length === 0) continue;
    yield { text: writer.batch(records, isFirst), records: records.length };
    isFirst = false;
  }
  yield { text: writer.tail(), records: 0 };
}

/** Writes the files of a run, so that they are served in parts from any replica. @returns how many records; null: the run is someone else's */
export async function writeFiles(store: RunStore, row: RunRow, lease: RunLease, leaseMs: number): Promise<number | null> {
  await store.discardFiles(row.id); // of whoever began before us
  let written = row.checkpoint.kept;
  for (const format of row.plan.formats) {
    const parts = fileParts(store, { lease, leaseMs, format });
    let count = 0;
    for await (const { text, records } of textOf(store, row, format)) {
      count += records;
      if (!(await parts.add(Buffer.from(text, 'utf8')))) return null;
    }
    if (!(await parts.end())) return null;
    written = count;
  }
  return written;
}

/** A written file in pieces: of the plain bytes from `from` to before `to`; as gzip members where it is wanted whole. */
export async function* fileBytes(
  store: Pick<RunStore, 'fileParts'>,
  runId: string,
  format: string,
  { from, to }: { from: number; to: number },
): AsyncGenerator<Buffer> {
  for (let at = from; at < to; ) {
    const parts = await store.fileParts(runId, format, at, PAGES_AT_ONCE);
    if (parts.length === 0) return;
    for (const part of parts) {
      const plain = await unzip(part.data);
      const piece = plain.subarray(Math.max(0, at - part.starts), Math.min(part.size, to - part.starts));
      if (piece.length > 0) yield piece;
      at = part.starts + part.size;
      if (at >= to) return;
    }
  }
}

/** The members as they are kept: one after the other they are one gzip file (RFC 1952 §2.2). */
export async function* gzipBytes(store: Pick<RunStore, 'fileParts'>, runId: string, format: string): AsyncGenerator<Buffer> {
  for (let at = 0; ; ) {
    const parts = await store.fileParts(runId, format, at, PAGES_AT_ONCE);
    for (const part of parts) yield part.data;
    const last = parts.at(-1);
    if (!last || parts.length < PAGES_AT_ONCE) return;
    at = last.starts + last.size;
  }
}
