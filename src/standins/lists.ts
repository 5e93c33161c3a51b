import type { Response } from 'express';
import { z } from 'zod';

/** What a list of a stand-in can be told to be, and to do wrong while someone pages through it. */
export const ListOrder = z.strictObject({
  list: z.string().max(40),
  /** So many made-up records instead of the world's. */
  records: z.number().int().min(0).max(2_000_000).optional(),
  /** Bytes of filling in each record. */
  filling: z.number().int().min(0).max(200_000).optional(),
  /** The total that is named differs from the truth by so much. */
  total_off: z.number().int().optional(),
  /** No page has more, whatever was asked for. */
  page_most: z.number().int().min(1).optional(),
  /** Nothing follows after so many records, and no answer shows it. */
  cap: z.number().int().min(1).optional(),
  /** With each page that is read: a record is inserted at the front, or the first is deleted. */
  insert_each: z.number().int().min(0).optional(),
  delete_each: z.number().int().min(0).optional(),
  /** From this page on the next link leads back to the first page, or to another host. */
  loop_from: z.number().int().min(1).optional(),
  foreign_from: z.number().int().min(1).optional(),
  /** A page without records that names a next one. */
  empty_page: z.number().int().min(1).optional(),
  /** The paging parameter is ignored: each page is the first. */
  ignores_paging: z.boolean().optional(),
  /** The pages that are answered with 429, once each. */
  too_many_at: z.array(z.number().int()).optional(),
});
export type ListOrder = z.output<typeof ListOrder>;
type Row = Record<string, unknown>;

interface Kept {
  order: Omit<ListOrder, 'list'>;
  rows: Row[];
  pages: number;
  inserted: number;
  deleted: number;
  refused: Set<number>;
}

/** A page of a list, with what is named beside it. */
export interface ListPage {
  rows: Row[];
  total: number;
  /** Where the next page begins; null: there is none. */
  next: number | null;
  /** What tells the address of a next page from that of an empty one before it. */
  mark: string;
  /** What a next link leads to instead. */
  astray: 'loop' | 'foreign' | null;
  /** True: 429 is what is answered. */
  tooMany: boolean;
}

export interface Lists {
  order(order: ListOrder): void;
  clear(): void;
  names(): { list: string; records: number; inserted: number; deleted: number; pages: number }[];
  /** Of all records as they are now: what a collection is compared with. */
  ids(list: string): string[];
  page(list: string, world: readonly Row[], from: number, size: number): ListPage;
}

const DAY_MS = 86_400_000;
const madeUp = (list: string, count: number, filling: number): Row[] =>
  Array.from({ length: count }, (_none, at) => ({
    id: `${list}-${String(at + 1).padStart(7, '0')}`,
    day: new Date(Date.UTC(2026, 0, 1) + (at % 300) * DAY_MS).toISOString().slice(0, 10),
    boat: ['Curlew', 'Dunlin', 'Sandpiper'][at % 3],
    guest: { name: `Guest ${at % 977}`, email: `guest${at % 977}@post.example` },
    places: 1 + (at % 6),
    ...(filling > 0 ? { filling: 'x'.repeat(filling) } : {}),
  }));

export function lists(): Lists {
  const kept = new Map<string, Kept>();
  /** An order is for a list in all places of the provider. */
  const orders = new Map<string, Omit<ListOrder, 'list'>>();
  const baseOf = (list: string): string => list.split('.')[0] ?? list;
  const of = (list: string, world: readonly Row[]): Kept => {
    const present = kept.get(list);
    if (present) return present;
    const given = orders.get(baseOf(list)) ?? {};
    const rows = given.records === undefined ? [...world] : madeUp(baseOf(list), given.records, given.filling ?? 0);
    const fresh: Kept = { order: given, rows, pages: 0, inserted: 0, deleted: 0, refused: new Set() };
    kept.set(list, fresh);
    return fresh;
  };
  return {
    order({ list, ...order }) {
      orders.set(list, order);
      for (const name of kept.keys()) if (baseOf(name) === list) kept.delete(name);
    },
    clear() {
      orders.clear();
      kept.clear();
    },
    names: () => [...kept].map(([list, { rows, inserted, deleted, pages }]) => ({ list, records: rows.length, inserted, deleted, pages })),
    ids: (list) => ([...kept].find(([name]) => baseOf(name) === list)?.[1].rows ?? []).map((row) => String(row.id)),
    page(list, world, from, size) {
      const one = of(list, world);
      const { order } = one;
      one.pages += 1;
      const at = one.pages;
      if (order.too_many_at?.includes(at) && !one.refused.has(at)) {
        one.refused.add(at);
        one.pages -= 1;
        return { rows: [], total: 0, next: null, mark: '', astray: null, tooMany: true };
      }
      const end = order.cap === undefined ? one.rows.length : Math.min(order.cap, one.rows.length);
      const start = order.ignores_paging ? 0 : from;
      const most = Math.min(size, order.page_most ?? size);
      const isEmpty = order.empty_page === at;
      const rows = isEmpty ? [] : one.rows.slice(start, Math.min(end, start + most));
      const next = start + rows.length < end ? start + rows.length : null;
      const mark = isEmpty ? '&again=1' : '';
      const total = one.rows.length + (order.total_off ?? 0);
      for (let n = 0; n < (order.insert_each ?? 0); n += 1) {
        one.inserted += 1;
        one.rows.unshift({ ...one.rows[0], id: `${list}-new-${one.inserted}` });
      }
      for (let n = 0; n < (order.delete_each ?? 0) && one.rows.length > 0; n += 1) {
        one.rows.shift();
        one.deleted += 1;
      }
      const astray =
        order.loop_from !== undefined && at >= order.loop_from ? 'loop' : order.foreign_from !== undefined && at >= order.foreign_from ? 'foreign' : null;
      return { rows, total, next, mark, astray, tooMany: false };
    },
  };
}

/** The address of a next page, or the wrong one that was ordered; null: none. */
export const nextAddress = (page: ListPage, address: (from: number) => string): string | null =>
  page.astray === 'loop'
    ? address(0)
    : page.astray === 'foreign'
      ? 'https://elsewhere.example/steal?from=1'
      : page.next === null
        ? null
        : `${address(page.next)}${page.mark}`;

/** Answers 429 where that was ordered. */
export const tooMany = (page: ListPage, response: Response): boolean => {
  if (page.tooMany) response.status(429).setHeader('retry-after', '1').json({ error: 'too_many', message: 'Too many calls.' });
  return page.tooMany;
};
