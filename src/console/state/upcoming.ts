import type { UpcomingItem } from '../../api/upcoming.ts';
import { UPCOMING_WORDS } from '../../api/vocabulary.ts';
import { type Column, TableState } from '../ui/table.svelte.ts';

const DAY_MS = 86_400_000;

export const UPCOMING_COLUMNS: readonly Column<UpcomingItem>[] = [
  { key: 'at', label: 'Expires', sortBy: (one) => one.at, class: 'lg:w-28' },
  { key: 'what', label: 'What', sortBy: (one) => one.what, class: 'font-semibold' },
  { key: 'act', label: 'Begin by', sortBy: (one) => one.act_by, class: 'lg:w-28' },
  { key: 'breaks', label: 'Stops', sortBy: (one) => one.breaks.connections },
  { key: 'who', label: 'Who acts', sortBy: (one) => one.who },
  { key: 'remedy', label: 'What to do' },
];
export const upcomingTable = (): TableState<UpcomingItem> => new TableState(UPCOMING_COLUMNS, (one) => one.key);

export type Urgency = 'late' | 'now' | 'later';
/** Late: it has stopped. Now: the moment to begin has come. */
export function urgencyOf({ at, act_by: actBy }: Pick<UpcomingItem, 'at' | 'act_by'>, now: number): Urgency {
  return Date.parse(at) <= now ? 'late' : Date.parse(actBy) <= now ? 'now' : 'later';
}

interface Mark {
  item: UpcomingItem;
  /** Percent of the width: where it ends, and where the band of its lead time begins. */
  at: number;
  from: number;
  urgency: Urgency;
}
export interface Lane {
  kind: UpcomingItem['kind'];
  label: string;
  marks: Mark[];
}

/** One lane for each kind that has something, in the order of the first date; what is late stands at today. */
export function lanes(items: readonly UpcomingItem[], now: number, days: number): Lane[] {
  const percent = (at: number): number => Math.min(100, Math.max(0, (100 * (at - now)) / (days * DAY_MS)));
  const byKind = new Map<UpcomingItem['kind'], Mark[]>();
  for (const item of items) {
    const mark = { item, at: percent(Date.parse(item.at)), from: percent(Date.parse(item.act_by)), urgency: urgencyOf(item, now) };
    byKind.set(item.kind, [...(byKind.get(item.kind) ?? []), mark]);
  }
  return [...byKind].map(([kind, marks]) => ({ kind, label: UPCOMING_WORDS[kind], marks }));
}

/** Where the weeks stand, as percent with their dates. */
export function weeks(now: number, days: number): { at: number; label: string }[] {
  const step = days > 120 ? 28 : 14;
  return Array.from({ length: Math.floor(days / step) + 1 }, (_none, n) => ({
    at: (100 * n * step) / days,
    label: n === 0 ? 'today' : new Date(now + n * step * DAY_MS).toLocaleDateString('en-US', { day: 'numeric', month: 'short' }),
  }));
}
