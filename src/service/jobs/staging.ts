import { promisify } from 'node:util';
import { deflateRaw, inflateRaw } from 'node:zlib';
import { ID_BYTES } from '../../core/paging/id-set.ts';
import type { RunStore, StagedPage } from '../store/runs.ts';

const deflate = promisify(deflateRaw);
const inflate = promisify(inflateRaw);
/** Speed matters more than size: pages are read back once or twice. */
const LEVEL = 1;
/** In one row, so that a page of 20 MB fits into packets of the database. */
const MAX_TEXT = 4_000_000;
/** A page of ours that inflates to more was not written by this product. */
const MAX_PLAIN = 64_000_000;
const IDS_AT_ONCE = 200;

/**
 * Records as rows to keep: a JSON array, deflated, in pieces.
 * @param ids keys of their ids, aligned with them, or none
 * @param content the records as JSON text, where it is at hand
 */
export async function stage(
  records: readonly unknown[],
  { ids, firstSequence, content }: { ids: Buffer | null; firstSequence: number; content: string | null },
): Promise<StagedPage[]> {
  if (records.length === 0) return [];
  const piece = async (sequence: number, from: number, to: number, text: string): Promise<StagedPage> => ({
    sequence,
    records: to - from,
    data: await deflate(text, { level: LEVEL }),
    ids: ids?.subarray(from * ID_BYTES, to * ID_BYTES) ?? null,
  });
  const whole = content ?? JSON.stringify(records);
  if (whole.length <= MAX_TEXT) return [await piece(firstSequence, 0, records.length, whole)];
  const pieces: StagedPage[] = [];
  for (let from = 0; from < records.length; ) {
    const lines: string[] = [];
    for (let size = 0; from + lines.length < records.length && (size === 0 || size < MAX_TEXT); ) {
      const line = JSON.stringify(records[from + lines.length]);
      lines.push(line);
      size += line.length;
    }
    pieces.push(await piece(firstSequence + pieces.length, from, from + lines.length, `[${lines.join(',')}]`));
    from += lines.length;
  }
  return pieces;
}

/** The records of a kept page. */
export async function unstage(page: Pick<StagedPage, 'data' | 'records'>): Promise<unknown[]> {
  if (page.records === 0) return [];
  return JSON.parse((await inflate(page.data, { maxOutputLength: MAX_PLAIN })).toString('utf8')) as unknown[];
}

/** The keys of each kept page of a run, in the pages' order. */
export async function* idsOfPages(store: Pick<RunStore, 'ids'>, runId: string): AsyncGenerator<{ sequence: number; ids: Buffer }> {
  for (let after = 0; ; ) {
    const pages = await store.ids(runId, after, IDS_AT_ONCE);
    yield* pages;
    const last = pages.at(-1);
    if (!last || pages.length < IDS_AT_ONCE) return;
    after = last.sequence;
  }
}
