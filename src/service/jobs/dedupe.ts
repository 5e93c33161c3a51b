import { ID_BYTES, IdSet, keysOf, writeKey } from '../../core/paging/id-set.ts';
import { idReader } from '../../core/paging/page.ts';
import type { RunRow } from '../store/runs.ts';
import type { JobParts } from './parts.ts';
import { idsOfPages } from './staging.ts';

/** What new records are told by. */
export interface Sorting {
  row: Pick<RunRow, 'plan'>;
  ids: IdSet | null;
  /** Of earlier runs, where only new ids are wanted: received, and not kept again. */
  known: IdSet | null;
}

interface Sorted {
  fresh: unknown[];
  keys: Buffer | null;
  doubles: number;
  withoutId: number;
  /** Records that an earlier run has. */
  known: number;
}

/** New records and their keys, by the identifying field; what is known already is counted. */
export function sort({ row, ids, known }: Sorting, records: readonly unknown[]): Sorted {
  const pointer = row.plan.paging.id;
  if (pointer === undefined || ids === null) return { fresh: [...records], keys: null, doubles: 0, withoutId: 0, known: 0 };
  const idOf = idReader(pointer);
  const keys = Buffer.allocUnsafe(records.length * ID_BYTES);
  const view = keysOf(keys);
  const found: Sorted = { fresh: [], keys, doubles: 0, withoutId: 0, known: 0 };
  for (const record of records) {
    const id = idOf(record);
    const at = found.fresh.length * ID_BYTES; // a double's key is overwritten
    writeKey(id, keys, at);
    if (id === null) found.withoutId += 1;
    if (!ids.add(view, at)) found.doubles += 1;
    else if (known?.has(view, at)) found.known += 1;
    else found.fresh.push(record);
  }
  return { ...found, keys: keys.subarray(0, found.fresh.length * ID_BYTES) };
}

/** Ids of what is kept of this run, and of the earlier ones where only new ids are wanted. */
export async function idsOf(s: JobParts, row: RunRow): Promise<Pick<Sorting, 'ids' | 'known'>> {
  if (row.plan.paging.id === undefined) return { ids: null, known: null };
  const known = row.plan.since?.kind === 'ids' && row.plan.base.length > 0 ? await idsKept(s, row.plan.base) : null;
  return { ids: await idsKept(s, [row.id]), known };
}

export async function idsKept(s: JobParts, runIds: readonly string[]): Promise<IdSet> {
  const ids = new IdSet();
  for (const runId of runIds)
    for await (const page of idsOfPages(s.store.runs, runId)) {
      const keys = keysOf(page.ids);
      for (let at = 0; at < page.ids.length; at += ID_BYTES) ids.add(keys, at);
    }
  return ids;
}
