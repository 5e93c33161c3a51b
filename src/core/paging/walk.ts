import { at } from '../json.ts';
import { fingerprint, type Page } from './page.ts';
import { endsOf, type PagingPlan } from './plan.ts';
import { firstPosition, type Position } from './request.ts';

/** Why paging stopped before its end. */
export const GUARDS = ['repeated_link', 'repeated_page', 'foreign_link', 'pages_limit', 'records_limit', 'bytes_limit', 'cap_reached'] as const;
export type Guard = (typeof GUARDS)[number];
/** How a list ended: as the plan states, or stopped by a guard. */
export type Ended = 'no_next' | 'empty_page' | 'short_page' | 'total_reached' | 'short_page_at_total' | 'one_page' | Guard;
export const isGuard = (ended: Ended): ended is Guard => (GUARDS as readonly string[]).includes(ended);

/** Where one walk through a list stands. Plain data: it is a part of a run's checkpoint. */
export interface Walk {
  position: Position;
  pages: number;
  /** Records received, doubles included. */
  records: number;
  bytes: number;
  largest: number;
  /**
   * Brent's cycle detection: the position and content of one earlier page, replaced at each power of two. It finds any cycle of pages in
   * constant space, at the latest after three times its length.
   */
  mark: { position: string; content: string; until: number };
}
export interface Limits {
  pages: number;
  records: number;
  bytes: number;
}

export const startWalk = (plan: PagingPlan): Walk => ({
  position: firstPosition(plan),
  pages: 0,
  records: 0,
  bytes: 0,
  largest: 0,
  mark: { position: '', content: '', until: 1 },
});

/** What a page adds: the walk afterwards, and how the list ended; null: the next page follows. */
export interface Step {
  walk: Walk;
  ended: Ended | null;
}

/**
 * Takes one page into a walk and decides what follows.
 * @param content the page's records as text, for comparing
 * @param resolve the address of a next link, or null where it leads outside the API's base URLs
 */
export function takePage(
  plan: PagingPlan,
  walk: Walk,
  { page, content, bytes, resolve }: { page: Page; content: string; bytes: number; resolve: (link: string) => string | null },
  limits: Limits,
): Step {
  const name = page.records.length === 0 ? '' : fingerprint(content);
  const after: Walk = {
    ...walk,
    pages: walk.pages + 1,
    records: walk.records + page.records.length,
    bytes: walk.bytes + bytes,
    largest: Math.max(walk.largest, page.records.length),
  };
  if (name !== '' && walk.pages > 0 && name === walk.mark.content) return { walk: { ...after, records: walk.records }, ended: 'repeated_page' };
  const ended = endOf(plan, page, walk, after);
  if (ended !== null) return { walk: after, ended };
  const next = nextPosition(plan, walk, page, resolve);
  if (next === 'foreign_link') return { walk: after, ended: 'foreign_link' };
  if (next === null) return { walk: after, ended: page.more === true ? 'repeated_link' : 'no_next' };
  const key = JSON.stringify([next.link, next.value]);
  const here = JSON.stringify([walk.position.link, walk.position.value]);
  if (key === here || key === walk.mark.position) return { walk: after, ended: 'repeated_link' };
  if (plan.cap !== undefined && after.records >= plan.cap) return { walk: after, ended: 'cap_reached' };
  const guard = overLimit(after, limits);
  if (guard) return { walk: after, ended: guard };
  const isMarked = after.pages >= walk.mark.until;
  return {
    walk: { ...after, position: next, mark: isMarked ? { position: here, content: name, until: walk.mark.until * 2 } : walk.mark },
    ended: null,
  };
}

function overLimit(walk: Walk, limits: Limits): Guard | null {
  if (walk.pages >= limits.pages) return 'pages_limit';
  if (walk.records >= limits.records) return 'records_limit';
  return walk.bytes >= limits.bytes ? 'bytes_limit' : null;
}

function endOf(plan: PagingPlan, page: Page, before: Walk, after: Walk): Ended | null {
  if (plan.style === 'none') return 'one_page';
  if (page.more === false) return 'no_next';
  const ends = endsOf(plan);
  const isShort = page.records.length < (plan.size_most !== undefined && before.pages === 0 && ends.includes('short_page') ? plan.size_most : before.largest);
  const isTotal = page.total !== null && after.records >= page.total;
  if (ends.includes('empty_page') && page.records.length === 0) return 'empty_page';
  if (ends.includes('short_page') && isShort) return 'short_page';
  if (ends.includes('total_reached') && isTotal) return 'total_reached';
  // A total may be of the page alone: a first page ends the list only where it is shorter than what was asked for.
  const isBelowSize = plan.size_parameter !== undefined && plan.size_most !== undefined && page.records.length < plan.size_most;
  if (ends.includes('short_page_at_total') && isTotal && (before.pages === 0 ? isBelowSize : isShort)) return 'short_page_at_total';
  return null;
}

function nextPosition(plan: PagingPlan, walk: Walk, page: Page, resolve: (link: string) => string | null): Position | null | 'foreign_link' {
  switch (plan.style) {
    case 'next_link':
    case 'link_header': {
      if (page.next === null) return null;
      const link = resolve(page.next);
      return link === null ? 'foreign_link' : { link, value: null };
    }
    case 'cursor':
      return page.next === null ? null : { link: null, value: page.next };
    case 'page_number':
      return { link: null, value: String(Number(walk.position.value ?? plan.first ?? 1) + 1) };
    case 'offset':
      return { link: null, value: String(Number(walk.position.value ?? plan.first ?? 0) + page.records.length) };
    case 'keyset': {
      const last = plan.next === undefined ? undefined : at(page.records.at(-1), plan.next);
      return typeof last === 'string' || typeof last === 'number' ? { link: null, value: String(last) } : null;
    }
    default:
      return null;
  }
}

/** A resolver of next links: relative to the page that named them, and only to addresses below one of these. */
export const linkResolver =
  (bases: readonly string[], current: string) =>
  (link: string): string | null => {
    if (!URL.canParse(link, current)) return null;
    const url = new URL(link, current);
    url.hash = '';
    const below = bases.some((base) => url.href === base || ['/', '?'].some((mark) => url.href.startsWith(`${base.replace(/\/$/, '')}${mark}`)));
    return below && url.username === '' && url.password === '' ? url.href : null;
  };
