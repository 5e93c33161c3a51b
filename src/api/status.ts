import { z } from 'zod';
import { Instant } from './common.ts';
import { ConnectionSummary } from './connections.ts';

export const Replica = z.object({
  instance: z.string(),
  incarnation: z.number().int(),
  roles: z.array(z.string()),
  started_at: Instant,
  seen_at: Instant,
  alive: z.boolean(),
});
export const Status = z.object({
  at: Instant,
  version: z.string(),
  public_url: z.string(),
  connections: z.object({
    total: z.number().int(),
    working: z.number().int(),
    struggling: z.number().int(),
    needs_person: z.number().int(),
    other: z.number().int(),
  }),
  attention: z.array(ConnectionSummary).describe('What needs a person or struggles, worst first, at most 50'),
  renewals: z.object({
    last_hour: z.number().int(),
    failed_last_hour: z.number().int(),
    due_now: z.number().int(),
    oldest_due_at: Instant.nullable(),
    spilled: z.number().int().describe('Of these, kept in sealed files as well'),
    unsaved: z.number().int().describe('Answers kept in memory because the database cannot take them'),
  }),
  handouts: z.object({ last_hour: z.number().int(), refused_last_hour: z.number().int() }),
  providers: z.number().int(),
  clients: z.number().int(),
  callers: z.number().int(),
  replicas: z.array(Replica),
});
export type Status = z.output<typeof Status>;
