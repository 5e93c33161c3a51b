import { createHash } from 'node:crypto';
import { promisify } from 'node:util';
import { deflateRaw, inflateRaw } from 'node:zlib';
import { ID_BYTES } from '../../core/paging/id-set.ts';
import type { StagedPage } from '../store/runs.ts';

const deflate = promisify(deflateRaw);
const inflate = promisify(inflateRaw);
/** Speed matters more than size: pages are read back once or twice. */
const LEVEL = 1;
/** In one row, so that a page of 20 MB fits into packets of the database. */
const TEXT_MOST = 4_000_000;
/** A page of ours that inflates to more was not written by this product. */
const PLAIN_MOST = 64_000_000;

/** The hash by which a record's id is compared; zeros where there is none. */
export const idHash = (id: string | null): Buffer => (id === null ? Buffer.alloc(ID_BYTES) : createHash('sha256').update(id).digest().subarray(0, ID_BYTES));

/** Records as rows to keep: lines of JSON, deflated, in pieces. @param ids aligned with the records, or none */
export async function stage(records: readonly unknown[], ids: readonly Buffer[] | null, firstSequence: number): Promise<StagedPage[]> {
  const lines = records.map((one) => JSON.stringify(one));
  const pieces: StagedPage[] = [];
  for (let from = 0; from < lines.length; ) {
    let [to, size] = [from, 0];
    while (to < lines.length && (size === 0 || size + (lines[to]?.length ?? 0) < TEXT_MOST)) {
      size += (lines[to]?.length ?? 0) + 1;
      to += 1;
    }
    pieces.push({
      sequence: firstSequence + pieces.length,
      records: to - from,
      data: await deflate(lines.slice(from, to).join('\n'), { level: LEVEL }),
      ids: ids && Buffer.concat(ids.slice(from, to)),
    });
    from = to;
  }
  return pieces;
}

/** The records of a kept page. */
export async function unstage(page: Pick<StagedPage, 'data' | 'records'>): Promise<unknown[]> {
  if (page.records === 0) return [];
  const text = (await inflate(page.data, { maxOutputLength: PLAIN_MOST })).toString('utf8');
  return text.split('\n').map((line) => JSON.parse(line) as unknown);
}
