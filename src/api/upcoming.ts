import { z } from 'zod';
import { UPCOMING_KINDS } from '../core/forecast/forecast.ts';
import { Instant, LabelFilter, NewName } from './common.ts';

export const UpcomingQuery = z.object({
  days: z.coerce.number().int().min(1).max(365).default(90).describe('How far ahead'),
  label: LabelFilter.optional().describe('Only what hits connections with this label'),
  who: z.enum(['operator', 'person', 'provider']).optional().describe('Who must act'),
});
export const UpcomingItem = z.object({
  key: z.string(),
  kind: z.enum(UPCOMING_KINDS),
  what: z.string(),
  at: Instant.describe('When it stops; past: it is late'),
  act_by: Instant.describe('The latest moment to begin'),
  certainty: z.enum(['known', 'observed', 'assumed']),
  who: z.enum(['operator', 'person', 'provider']),
  breaks: z.object({
    connections: z.number().int(),
    examples: z.array(z.string()).describe('The first of them by name'),
    callers: z.array(z.string()),
    jobs: z.array(z.string()),
  }),
  remedy: z.string(),
  page: z.string().describe('Of the console, where it is fixed'),
  command: z.string().describe('Of `rk`'),
  labels: z.array(z.string()),
});
export type UpcomingItem = z.output<typeof UpcomingItem>;
export const UpcomingListed = z.object({ items: z.array(UpcomingItem), now: Instant, until: Instant });
export type UpcomingListed = z.output<typeof UpcomingListed>;

export const AddCalendar = z.strictObject({ name: NewName.describe('To tell it apart, such as who subscribes') });
export const Calendar = z.object({ id: z.uuid(), name: z.string(), created_by: z.string(), created_at: Instant, last_read_at: Instant.nullable() });
export type Calendar = z.output<typeof Calendar>;
export const AddedCalendar = Calendar.extend({ url: z.url().describe('The private address of the feed. It is shown once') });
export type AddedCalendar = z.output<typeof AddedCalendar>;
