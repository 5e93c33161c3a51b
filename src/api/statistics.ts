import { z } from 'zod';
import { CallerName, ConnectionName, Instant } from './common.ts';

export const StatisticsQuery = z.strictObject({
  hours: z.coerce.number().int().min(1).max(168).default(24),
  connection: ConnectionName.optional(),
  caller: CallerName.optional(),
});
const count = () => z.number().int();
/** One hour of figures; the last one is under way. */
export const StatisticsHour = z.object({
  at: Instant.describe('When the hour starts'),
  renewed: count(),
  failed: count().describe('Attempts to renew that failed'),
  tokens: count().describe('Tokens issued'),
  relayed: count().describe('Calls relayed'),
  rejected: count().describe('Requests that were rejected here, for lack of permission or quota'),
});
export type StatisticsHour = z.output<typeof StatisticsHour>;
export const Statistics = z.object({ items: z.array(StatisticsHour).describe('Oldest first, without gaps') });
