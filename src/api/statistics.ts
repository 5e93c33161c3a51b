import { z } from 'zod';
import { RUN_RESULTS } from '../core/jobs/run-results.ts';
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
export const Breakdown = z.object({
  callers: z.array(z.object({ caller: CallerName, tokens: count(), relayed: count(), rejected: count() })).describe('Of the last 24 hours, the busiest first'),
  callers_total: count().describe('How many were active'),
  quotas: z
    .array(
      z.object({
        name: z.string().describe('The client as PROVIDER/NAME, or the connection, whose quota it is'),
        of: z.enum(['client', 'connection']),
        api: z.string(),
        window: z.enum(['minute', 'hour', 'day']),
        unit: z.string(),
        used: count(),
        most: count(),
        percent: count(),
      }),
    )
    .describe('Windows that are open now, the most used first'),
  jobs: z
    .array(
      z.object({
        job: z.string(),
        runs: z.array(z.object({ number: count(), at: Instant, result: z.enum(RUN_RESULTS), records: count() })).describe('Oldest first'),
      }),
    )
    .describe('Jobs that ran last'),
});
export type Breakdown = z.output<typeof Breakdown>;
export const Statistics = z.object({ items: z.array(StatisticsHour).describe('Oldest first, without gaps') });
