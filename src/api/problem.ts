import { z } from 'zod';

/** A problem answer (RFC 9457) with what a person can do about it. */
export const Problem = z.object({
  type: z.string(),
  title: z.string(),
  status: z.number().int(),
  detail: z.string().optional(),
  remedy: z.string(),
  code: z.string(),
  request_id: z.string().optional(),
  places: z.array(z.object({ path: z.string(), line: z.number().int().optional(), why: z.string(), kind: z.literal('unlikely').optional() })).optional(),
  second_factor: z
    .object({
      ticket: z.string().describe('Good for five minutes and five tries'),
      methods: z.array(z.enum(['code', 'passkey'])),
      passkey_options: z.record(z.string(), z.unknown()).nullable().describe('For the browser: PublicKeyCredential.parseRequestOptionsFromJSON'),
    })
    .optional()
    .describe('With SECOND_FACTOR_NEEDED: how to continue the sign-in'),
});
export type Problem = z.output<typeof Problem>;

/** Every problem's `type` is this, then the code in lower case. A URN, so that it holds wherever the service is installed. */
export const PROBLEM_TYPE_PREFIX = 'urn:rusty-kettle:problem:';
