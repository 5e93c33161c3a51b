import { createHash } from 'node:crypto';
import { at, pointerReader } from '../json.ts';
import type { PagingPlan } from './plan.ts';

/** One page, as the plan reads it. */
export interface Page {
  records: unknown[];
  total: number | null;
  /** The next link or cursor; null: there is none. */
  next: string | null;
  /** Whether more follows, where the provider states it; null: it does not. */
  more: boolean | null;
}

const count = (value: unknown): number | null => {
  const read = typeof value === 'string' && /^\d{1,15}$/.test(value) ? Number(value) : value;
  return typeof read === 'number' && Number.isSafeInteger(read) && read >= 0 ? read : null;
};
const linkText = (value: unknown): string | null =>
  typeof value === 'string' && value !== '' ? value : typeof value === 'number' && Number.isFinite(value) ? String(value) : null;

/** The target of the link with relation `next` (RFC 8288 §3), or null. */
export function nextOfHeader(header: string | undefined): string | null {
  // Commas inside <> belong to the target.
  for (const [, target = '', parameters = ''] of (header ?? '').slice(0, 8_000).matchAll(/<([^<>]*)>([^<]*)/g))
    if (/;\s*rel\s*=\s*(?:"(?:[^"]*\s)?next(?:\s[^"]*)?"|next\s*(?:[,;]|$))/i.test(parameters)) return target;
  return null;
}

/**
 * Reads a page. @returns a text where the document holds no list at the place the plan names
 * @param document the body, parsed
 * @param header reads a response header by its lower-case name
 */
export function readPage(plan: PagingPlan, document: unknown, header: (name: string) => string | undefined): Page | string {
  const records = plan.items === undefined ? document : at(document, plan.items);
  // A provider may leave the list out of an empty page.
  const isLeftOut = plan.items !== undefined && (records === undefined || records === null) && typeof document === 'object' && document !== null;
  if (!Array.isArray(records) && !(isLeftOut && (plan.total === undefined ? false : count(at(document, plan.total)) === 0)))
    return plan.items === undefined ? 'The response is not a list.' : `There is no list at ${plan.items}.`;
  const total = plan.total === undefined ? null : count(at(document, plan.total));
  const stated = plan.more === undefined ? undefined : at(document, plan.more);
  const more = typeof stated === 'boolean' ? stated : null;
  return { records: Array.isArray(records) ? records : [], total, next: nextOf(plan, document, header), more };
}

function nextOf(plan: PagingPlan, document: unknown, header: (name: string) => string | undefined): string | null {
  if (plan.style === 'link_header') return nextOfHeader(header('link'));
  if (plan.style !== 'next_link' && plan.style !== 'cursor') return null;
  const inHeader = plan.next_header === undefined ? null : linkText(header(plan.next_header));
  return inHeader ?? (plan.next === undefined ? null : linkText(at(document, plan.next)));
}

const ENDS = 4_000;
/** A short name for a page's content, by its length, its beginning and its end: pages of other records differ there. */
export const fingerprint = (text: string): string =>
  createHash('sha256')
    .update(`${text.length} ${text.slice(0, ENDS)}${text.slice(-ENDS)}`)
    .digest('base64url')
    .slice(0, 22);

/** Reads the identifying field of records, as text; null where it is missing. */
export function idReader(pointer: string): (record: unknown) => string | null {
  const read = pointerReader(pointer);
  return (record) => {
    const value = read(record);
    return typeof value === 'string' || typeof value === 'number' || typeof value === 'boolean' ? `${typeof value === 'number' ? '#' : ''}${value}` : null;
  };
}
