import { z } from 'zod';
import type { ProviderDefinition } from '../provider/definition.ts';
import { Secret } from '../secret.ts';

/** What a browser brought back to the redirect URI (RFC 6749 §4.1.2). */
export type CallbackOutcome = { kind: 'code'; code: Secret } | { kind: 'refused'; error: string; description: string | null } | { kind: 'odd'; why: string };

const CallbackQuery = z.object({
  code: z.string().min(1).max(4096).optional(),
  state: z.string().optional(),
  error: z
    .string()
    .regex(/^[\x20-\x21\x23-\x5b\x5d-\x7e]{1,100}$/)
    .optional(),
  error_description: z.string().max(2000).optional(),
  iss: z.string().max(500).optional(),
});

/**
 * Checks a callback whose `state` was found good. Where the metadata claims the `iss` parameter it is required,
 * on error answers too (RFC 9207 §2.4, against mix-up).
 */
export function readCallback(definition: ProviderDefinition, query: unknown): CallbackOutcome {
  const read = CallbackQuery.safeParse(query);
  if (!read.success) return { kind: 'odd', why: 'The callback carries a repeated or malformed parameter.' };
  const { code, error, error_description: description, iss } = read.data;
  if (definition.server.authorization_response_iss_parameter_supported && iss !== definition.server.issuer)
    return {
      kind: 'odd',
      why: iss === undefined ? 'The provider promises an `iss` parameter and sent none.' : 'The `iss` parameter names another issuer than this provider.',
    };
  if (error !== undefined) return { kind: 'refused', error, description: description ?? null };
  if (code === undefined) return { kind: 'odd', why: 'The callback carries neither a code nor an error.' };
  return { kind: 'code', code: new Secret(code) };
}
