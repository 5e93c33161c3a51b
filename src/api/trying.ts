import { z } from 'zod';
import { PagingPlan } from '../core/paging/plan.ts';
import { CallAnswer, Instant, NewName, Pair } from './common.ts';
import { maskedAs } from './masking.ts';

const Method = z.enum(['GET', 'HEAD', 'POST', 'PUT', 'PATCH', 'DELETE', 'OPTIONS']);
/** A call to the provider's API, as it is composed. Names in braces are filled in: parameters of the call, placeholders of the connection. */
const CallMembers = {
  method: Method.default('GET'),
  path: z.string().min(1).max(4_000).describe('A path of the API, or an address below one of its base URLs; a query may stand in it'),
  query: z.array(Pair).max(100).default([]),
  headers: z.array(Pair).max(50).default([]),
  body: z.string().max(100_000).nullable().default(null),
};
const from = NewName.optional().describe('The saved call of the connection that has the values shown as `(secret)`');
export const ComposedCall = maskedAs('call', z.strictObject({ ...CallMembers, from }));
export type ComposedCall = z.output<typeof ComposedCall>;

export const CallParameter = z.strictObject({
  name: z.string().regex(/^[A-Za-z][A-Za-z0-9_.-]{0,39}$/, { error: 'Letters, digits, underscores, dots and hyphens, a letter first.' }),
  says: z.string().max(200).default(''),
  value: z.string().max(4_000).nullable().default(null).describe('Fixed; null: requested each time'),
});
export const SavedName = NewName;
export const SaveCall = z.strictObject({
  name: SavedName,
  says: z.string().max(200).default(''),
  call: ComposedCall,
  parameters: z.array(CallParameter).max(40).default([]),
  paging: PagingPlan.nullable().optional().describe('How its list is paged, once someone confirmed it; left out: as it was kept; null: discarded'),
});
export const SavedCall = maskedAs('saved', SaveCall.extend({ saved_by: z.string(), saved_at: Instant }));
export type SavedCall = z.output<typeof SavedCall>;

export const CallRequest = z
  .strictObject({
    ...CallMembers,
    from,
    path: CallMembers.path.optional(),
    saved: SavedName.optional().describe('The name of a saved call, instead of a path'),
    values: z.record(z.string().max(40), z.string().max(4_000)).default({}).describe('What is filled in'),
    effects: z.boolean().default(false).describe('Yes to a call on a live connection that may change something'),
  })
  .refine((one) => (one.path === undefined) !== (one.saved === undefined), { error: 'Name a path or a saved call, one of the two.', path: ['path'] });

/** An answer, with the call as it can be taken elsewhere. */
export const TriedCall = CallAnswer.extend({
  environment: z.string(),
  rehearsal: z.boolean(),
  request: z.object({ headers: z.array(Pair), body: z.string().nullable() }).describe('As it was sent; the token is masked'),
  curl: z.string().describe('The same call through the relay'),
  har: z.record(z.string(), z.unknown()).describe('HAR 1.2, masked'),
});
export type TriedCall = z.output<typeof TriedCall>;

export const OfferedOperation = z.object({
  id: z.string(),
  api: z.string(),
  method: z.string(),
  path: z.string().describe('A whole address where it is not below the first base URL'),
  says: z.string(),
  needs: z.array(z.array(z.string())).describe('Any one of these lists of scopes is enough'),
  allowed: z.boolean().describe('The scopes held allow it'),
  weight: z.number().int(),
  parameters: z.array(z.object({ name: z.string(), in: z.enum(['path', 'query', 'header']), required: z.boolean(), says: z.string(), example: z.string() })),
  body: z.string().nullable(),
});
export type OfferedOperation = z.output<typeof OfferedOperation>;
export const OfferedCalls = z.object({
  environment: z.string(),
  rehearsal: z.boolean(),
  base_url: z.string(),
  relay_url: z.string(),
  placeholders: z.record(z.string(), z.string()),
  operations: z.array(OfferedOperation),
  saved: z.array(SavedCall),
});
export type OfferedCalls = z.output<typeof OfferedCalls>;

export const ReadCalls = z.strictObject({ text: z.string().min(1).max(4_000_000).describe('A curl line, or the text of a HAR file') });
export const CallsRead = z.object({ items: z.array(z.object({ call: ComposedCall, left_out: z.array(z.string()) })), refused: z.array(z.string()) });
export type CallsRead = z.output<typeof CallsRead>;
export const CurlLine = z.object({ line: z.string() });

/** One window of a quota, and what is left of it. */
export const QuotaLeft = z.object({
  api: z.string(),
  window: z.enum(['minute', 'hour', 'day']),
  unit: z.enum(['calls', 'points']),
  of: z.enum(['client', 'connection']).describe('Whose calls are counted together'),
  caller: z.string().nullable().describe('Whose share it is; null: the whole'),
  most: z.number().int(),
  says: z.string(),
  left: z.number().int(),
  resets_at: Instant,
  expected_left: z.number().int().nullable().describe('When it resets, at the rate so far; below zero: so many too few. Null: too early to say'),
  held_until: Instant.nullable().describe('The provider asked us to wait until then'),
});
export const QuotaView = z.object({ items: z.array(QuotaLeft), says: z.string() });
export type QuotaView = z.output<typeof QuotaView>;
