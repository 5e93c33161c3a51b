import { z } from 'zod';
import { CallerName, ConnectionName, Id, Instant } from './common.ts';

export const AddCaller = z.strictObject({ name: CallerName, title: z.string().max(80).default(''), connections: z.array(ConnectionName).max(200).default([]) });
export const ChangeCaller = z.strictObject({ title: z.string().max(80).optional(), connections: z.array(ConnectionName).max(200).optional() });
export const AddKey = z.strictObject({ label: z.string().trim().max(60).default('') });

export const CallerKey = z.object({
  id: Id,
  label: z.string(),
  starts: z.string().describe('The first characters, to tell keys apart'),
  added_at: Instant,
  last_used_at: Instant.nullable(),
  retired_at: Instant.nullable(),
});
export const Caller = z.object({
  name: CallerName,
  title: z.string(),
  caller_id: z.string().describe('What programs send as client_id'),
  keys: z.array(CallerKey),
  connections: z.array(ConnectionName),
  handouts_last_hour: z.number().int(),
  refused_last_hour: z.number().int(),
  last_used_at: Instant.nullable(),
  token_url: z.string(),
});
export type Caller = z.output<typeof Caller>;
/** The only answer that ever carries a key. */
export const NewKey = z.object({ caller: CallerName, caller_id: z.string(), key: z.string(), token_url: z.string(), resources: z.array(z.string()) });
export type NewKey = z.output<typeof NewKey>;
