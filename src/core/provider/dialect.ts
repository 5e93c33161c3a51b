import { z } from 'zod';
import { CAUSES } from '../diagnosis/causes.ts';
import { CLIENT_ASSERTION_ALGORITHMS, KEY_NAMES } from '../oauth/methods.ts';
import { absoluteUri } from './uri.ts';
import { headerName, jsonPointer, printable, webAddress } from './web-address.ts';

/** Header that no definition may set: they decide who is asked, where a message ends, or who we are. */
const NOT_TO_SET = new Set([
  'host',
  'content-length',
  'transfer-encoding',
  'connection',
  'authorization',
  'cookie',
  'proxy-authorization',
  'upgrade',
  'te',
  'trailer',
]);

/** Headers that an API insists on. The token's own header is named elsewhere. */
export const DefaultHeaders = z
  .record(headerName, printable(500))
  .refine((headers) => Object.keys(headers).every((name) => !NOT_TO_SET.has(name)), { error: 'This header is set by the service itself.' });

const Parameters = z.record(printable(60), printable(500));
const RESERVED_AUTHORIZATION = ['response_type', 'client_id', 'redirect_uri', 'scope', 'state', 'nonce', 'resource', 'code_challenge', 'code_challenge_method'];
const RESERVED_TOKEN = [
  'grant_type',
  'client_id',
  'client_secret',
  'code',
  'redirect_uri',
  'code_verifier',
  'device_code',
  'assertion',
  'resource',
  'refresh_token',
  'client_assertion',
  'client_assertion_type',
];
const without = (reserved: string[]) =>
  Parameters.refine((given) => Object.keys(given).every((name) => !reserved.includes(name)), {
    error: `These are set by the service itself: ${reserved.join(', ')}.`,
  });

/** Where the members of a token answer stand that are not where RFC 6749 §5.1 puts them. */
const TokenAnswerPlaces = z.strictObject({
  access_token: jsonPointer.optional(),
  refresh_token: jsonPointer.optional(),
  token_type: z.enum(['checked', 'ignored']).default('checked').describe('`ignored`: a missing or foreign token_type is taken'),
  expires_in: jsonPointer.optional().describe('Seconds'),
  scope: jsonPointer.optional(),
  api_base_url: jsonPointer.optional().describe('The address of the API, where each answer names it; its host must match `api_hosts`'),
  account_id: jsonPointer.optional(),
  account_label: jsonPointer.optional(),
});

/** Revocation that departs from RFC 7009: one request, the token in its query, form or header. */
const Revocation = z.strictObject({
  address: webAddress('revocation.address'),
  method: z.enum(['GET', 'POST', 'DELETE']).default('POST'),
  place: z.enum(['query', 'form', 'header']).default('form').describe('Where the token stands; `header`: as in an API call'),
  parameter: printable(60).default('token'),
  which: z.enum(['refresh_token', 'access_token']).default('refresh_token'),
});

const ErrorCodes = z.array(printable(100)).max(10);
/** A token request that spends nothing, and what its answer shows about the approval of the client. */
const ApprovalCheck = z.strictObject({
  grant_type: z
    .enum(['authorization_code', 'client_credentials'])
    .default('authorization_code')
    .describe('`authorization_code`: asked with a code that never existed, so that only a rejection can come'),
  approved: ErrorCodes.default(['invalid_grant']).describe('Error codes that a client gets only once it is approved; tokens say so too'),
  requested: ErrorCodes.default([]).describe('Error codes while nobody has decided'),
  info_requested: ErrorCodes.default([]).describe('Error codes while the provider waits for an answer'),
  rejected: ErrorCodes.default([]).describe('Error codes of a client that was rejected'),
});

/** Where admin consent is given, and which errors show that it is missing. */
const AdminConsent = z.strictObject({
  page: webAddress('admin_consent.page').describe('May hold {client_id}, {scopes} and {redirect_uri}'),
  says: z.string().max(300).default('').describe('Who may consent, in the provider\u2019s words'),
  rejected: ErrorCodes.default(['consent_required']).describe('Error codes while the organization has not consented'),
});

/** How a provider departs from the standards. Every field has a default that means "as the RFCs say". */
export const Dialect = z.strictObject({
  rotation: z.enum(['never', 'each_use', 'unknown']).default('unknown').describe('Whether a renewal brings a new refresh token that replaces the old one'),
  reuse: z.enum(['kills_grant', 'refused', 'grace']).default('kills_grant').describe('What happens to a refresh token that is used a second time'),
  reuse_grace_seconds: z.number().int().min(1).max(3600).optional().describe('With `reuse: grace`: for how long the old one is still taken'),
  renewal_ends_access_token: z.boolean().default(false).describe('A renewal ends the access token issued before'),
  assumed_life_seconds: z.number().int().min(10).max(86_400).default(1800).describe('The lifetime of an access token where the answer names none'),
  offline_parameter: z
    .strictObject({ name: printable(40), value: printable(80) })
    .optional()
    .describe('Sent along to the authorization endpoint; without it no refresh token comes'),
  consent_prompt: z
    .enum(['automatic', 'when_needed', 'always', 'never'])
    .default('automatic')
    .describe(
      'When `prompt=consent` is sent. `automatic`: to OpenID providers, with offline_access (OpenID Connect Core \u00a711), on a reconnect, and after a scope was not granted; `when_needed`: the same to a provider without OpenID',
    ),
  idle_life_seconds: z.number().int().min(60).max(315_360_000).optional().describe('A refresh token that is not used for so long lapses; left out: not known'),
  absolute_life_seconds: z
    .number()
    .int()
    .min(60)
    .max(315_360_000)
    .optional()
    .describe('So long after the consent the grant ends, however often it was renewed; left out: not known'),
  refresh_tokens_most: z
    .number()
    .int()
    .min(1)
    .max(10_000)
    .optional()
    .describe('So many refresh tokens for each person and client; one more pushes the oldest out'),
  pkce: z.enum(['S256', 'none']).default('S256'),
  scope_separator: z.enum([' ', ',', ';', '+']).default(' '),
  authorization_parameters: without(RESERVED_AUTHORIZATION).default({}).describe('Sent with every authorization request; values may hold {placeholders}'),
  token_parameters: without(RESERVED_TOKEN).default({}).describe('Sent with every token request, such as an audience; values may hold {placeholders}'),
  token_request: z.enum(['form', 'json']).default('form'),
  token_headers: DefaultHeaders.default({}).describe('Sent with every token request'),
  basic_encoding: z
    .enum(['form', 'raw'])
    .default('form')
    .describe('`raw`: id and secret are joined as they are, for providers that do not decode (RFC 6749 §2.3.1)'),
  token_answer: TokenAnswerPlaces.default({ token_type: 'checked' }),
  text_numbers: z.boolean().default(false).describe('Numbers may come as text, such as "3600"'),
  error_at: jsonPointer.optional().describe('Errors may come with status 200: an answer with something there is an error'),
  error_words: z
    .record(printable(100), z.enum(['invalid_grant', 'invalid_client', 'invalid_scope', 'invalid_request', 'temporarily_unavailable']))
    .default({})
    .describe('The provider\u2019s own error codes, and the standard one that each means'),
  client_assertion: z
    .strictObject({
      algorithm: z.enum(CLIENT_ASSERTION_ALGORITHMS).default('RS256').describe('Preferred where a key can sign with it; each key has its own algorithm'),
      key_name: z.enum(KEY_NAMES).default('kid').describe('The header member by which the provider finds the key'),
      audience: z.enum(['token_endpoint', 'issuer']).default('token_endpoint'),
    })
    .default({ algorithm: 'RS256', key_name: 'kid', audience: 'token_endpoint' })
    .describe('With private_key_jwt (RFC 7523 §2.2)'),
  resource: absoluteUri('resource')
    .optional()
    .describe('The API for which tokens are requested, as any absolute URI; sent with authorization and token requests (RFC 8707)'),
  login_hint: printable(40)
    .optional()
    .describe(
      'The authorization parameter that names the expected account; left out: `login_hint` where `openid` is requested (OpenID Connect Core \u00a73.1.2.1)',
    ),
  assertion_grant: z
    .strictObject({
      scope_in: z.enum(['parameter', 'claim']).default('parameter').describe('`claim`: the scopes stand in the assertion'),
      client_authentication: z.boolean().default(false).describe('The client shows who it is beside the assertion'),
    })
    .default({ scope_in: 'parameter', client_authentication: false })
    .describe('Where a service account asks with a signed assertion (RFC 7523 \u00a72.1)'),
  admin_consent: AdminConsent.optional().describe('Where the whole organization agrees in advance'),
  page_words: z
    .record(printable(120), z.enum(CAUSES))
    .default({})
    .describe('Words on the provider\u2019s own pages where it stops without sending the person back, and what each means'),
  revocation: Revocation.optional().describe('Where it departs from RFC 7009'),
  revocation_ends: z
    .enum(['this_grant', 'all_grants', 'unknown'])
    .default('unknown')
    .describe(
      'What a revoked refresh token ends: its own grant, or every grant of that person and client. Replaced, unused and spare tokens are revoked at the provider only with `this_grant`',
    ),
  approval_check: ApprovalCheck.optional().describe('How the token endpoint shows whether a client is approved; left out: it does not'),
});
export type Dialect = z.output<typeof Dialect>;

/** The dialect of a provider that keeps to the RFCs, and of which nothing else is known. */
export const PLAIN_DIALECT: Dialect = Dialect.parse({});

/** True where a refresh token may be spent by its use, so that the answer to a renewal must not be lost. */
export const isSpendable = (dialect: Dialect): boolean => dialect.rotation !== 'never';
