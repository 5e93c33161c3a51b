import { z } from 'zod';
import { ClientName, Instant, ProviderName } from './common.ts';

export const CLIENT_STATES = ['retired', 'draft', 'stopped', 'working'] as const;

export const AddClient = z.strictObject({
  provider: ProviderName,
  name: ClientName,
  title: z.string().max(80).default(''),
  environment: z.enum(['development', 'sandbox', 'live']).default('live'),
  placeholders: z.record(z.string(), z.string()).default({}).describe('Values for the placeholders of the definition; fixed from the draft'),
});
const ClientId = z
  .string()
  .trim()
  .min(1)
  .max(500)
  .regex(/^[\x20-\x7e]+$/, { error: 'A client id is printable ASCII (RFC 6749 Appendix A.1).' });
export const ChangeClient = z
  .strictObject({
    revision: z.number().int().min(1),
    title: z.string().max(80).optional(),
    environment: z.enum(['development', 'sandbox', 'live']).optional(),
    client_id: ClientId.optional(),
  })
  .refine((change) => Object.keys(change).length > 1, { error: 'Name at least one thing to change.' });
export const AddSecret = z.strictObject({ secret: z.string().trim().min(1).max(4000), ends_at: Instant.nullable().default(null) });
export const CheckRedirectUri = z.strictObject({ registered: z.string().min(1).max(2000) });
export const RedirectUriVerdict = z.object({
  same: z.boolean(),
  ours: z.string(),
  says: z.string(),
  /** Index of the first differing character; null when they are the same. */
  at: z.number().int().nullable(),
});

export const Client = z.object({
  provider: ProviderName,
  provider_title: z.string(),
  name: ClientName,
  title: z.string(),
  environment: z.enum(['development', 'sandbox', 'live']),
  placeholders: z.record(z.string(), z.string()),
  client_id: z.string().nullable(),
  redirect_uri: z.string(),
  registration_page: z.string().nullable(),
  state: z.enum(CLIENT_STATES),
  cause: z.string().nullable(),
  remedy: z.string().nullable(),
  missing: z.array(z.string()).describe('What is missing before consent can start; empty: ready'),
  secret: z
    .object({ entered_at: Instant, ends_at: Instant.nullable(), in_use: z.number().int() })
    .nullable()
    .describe('That there is one, and since when; never the secret'),
  connections: z.number().int(),
  revision: z.number().int(),
});
export type Client = z.output<typeof Client>;
