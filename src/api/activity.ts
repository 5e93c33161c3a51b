import { z } from 'zod';
import { HistoryEntry, Id, Instant } from './common.ts';
import { refersTo } from './references.ts';

export const HistoryQuery = z.object({
  subject: refersTo('subject', z.string().max(200)).optional().describe('Such as connection:NAME, client:PROVIDER/NAME, caller:NAME'),
  kind: z.string().max(40).optional(),
  actor: z.string().max(80).optional().describe('Who did it; `service`: nobody requested it'),
  since: Instant.optional(),
  until: Instant.optional(),
  before: Id.optional().describe('The ID of the last entry shown; returns entries before it'),
  purpose: z.enum(['read', 'export']).default('read').describe('`export`: the log notes that entries were taken away'),
  renewals: z.enum(['true', 'false']).default('false').describe('Include routine renewals'),
  limit: z.coerce.number().int().min(1).max(1_000).default(100),
});
export const HistoryList = z.object({ items: z.array(HistoryEntry), more: z.boolean().describe('More entries exist before the last one') });

export const VerifyActivity = z.strictObject({
  cursor: z
    .string()
    .regex(/^[0-9a-f-]{36}:\d{1,15}$/, { error: 'The `next` of an answer.' })
    .nullable()
    .default(null)
    .describe('`next` of the last answer'),
});
export const ActivityVerified = z.object({
  checked: z.number().int().describe('Entries in this piece'),
  chains: z.number().int(),
  next: z.string().nullable().describe('Verify on from here; null: this was the last piece'),
  broken: z
    .object({ chain: Id.nullable(), entry: Id.nullable(), at: Instant.nullable(), says: z.string().nullable(), why: z.string() })
    .nullable()
    .describe('The first entry that does not fit'),
  unchained: z
    .object({ count: z.number().int(), newest_at: Instant.nullable() })
    .nullable()
    .describe('Entries of versions before 0.7, which stand in no chain. Only with the last piece'),
});
export type ActivityVerified = z.output<typeof ActivityVerified>;
