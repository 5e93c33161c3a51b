import { at } from '../json.ts';
import type { Api } from '../provider/api.ts';

const number = (value: unknown): number | null => {
  const read = typeof value === 'number' ? value : typeof value === 'string' && /^\d{1,12}$/.test(value) ? Number(value) : Number.NaN;
  return Number.isSafeInteger(read) && read >= 0 ? read : null;
};
const isThere = (value: unknown): boolean => (typeof value === 'string' && value !== '') || value === true || (typeof value === 'number' && value > 0);

/** A link with the relation `next` (RFC 8288 §3.3). */
const hasNextLink = (header: string | undefined): boolean => /;\s*rel\s*=\s*(?:"(?:[^"]*\s)?next(?:\s[^"]*)?"|next)(?:\s*[;,]|\s*$)/i.test(header ?? '');

/**
 * Which part of a list an answer holds, where the API's definition names how it pages: “records 1–10 of 84; more follow”. Null: the answer
 * is no list, or is known to be all of it.
 * @param url the address that was called, with its query
 * @param body the whole body as text
 * @param link the `Link` header
 */
export function pageNote(api: Pick<Api, 'paging'>, url: string, body: string, link: string | undefined): string | null {
  const { paging } = api;
  if (!paging) return null;
  let document: unknown;
  try {
    document = JSON.parse(body);
  } catch {
    return null; // no JSON, or cut: that is said already
  }
  const records = paging.items === undefined ? document : at(document, paging.items);
  if (!Array.isArray(records)) return null;
  const count = records.length;
  const total = paging.total === undefined ? null : number(at(document, paging.total));
  const query = new URL(url).searchParams;
  const asked = paging.parameter === undefined ? null : query.get(paging.parameter);
  const size = paging.size_parameter === undefined ? null : number(query.get(paging.size_parameter));
  const first = firstOf(paging.style, asked, size);
  const last = first === null ? null : first + count - 1;

  const byTotal = total !== null && last !== null ? last < total : null;
  const named = paging.next === undefined ? null : isThere(at(document, paging.next));
  const isCounted = paging.style === 'page_number' || paging.style === 'offset';
  // Null: it cannot be told.
  const bySize = !isCounted ? false : size !== null ? count >= size : total !== null && total > count ? null : false;
  const more = paging.style === 'link_header' ? hasNextLink(link) : (named ?? byTotal ?? bySize);
  if (more === false && (first === 1 || count === 0 || asked === null)) return null;
  const range =
    count === 0 ? 'no records' : first === null || last === null ? `${count} records` : count === 1 ? `record ${first}` : `records ${first}\u2013${last}`;
  return `${range}${total === null ? '' : ` of ${total}`}${more === null ? '' : more ? '; more follow' : '; last page'}`;
}

/** The number of the first record, from 1; null: a cursor or page tells nothing of it. */
function firstOf(style: NonNullable<Api['paging']>['style'], asked: string | null, size: number | null): number | null {
  if (asked === null) return style === 'next_link' || style === 'link_header' ? null : 1;
  const value = number(asked);
  if (value === null || style === 'cursor') return null;
  if (style === 'offset') return value + 1;
  if (style === 'page_number') return value <= 1 ? 1 : size === null ? null : (value - 1) * size + 1;
  return null;
}
