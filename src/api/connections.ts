import { z } from 'zod';
import { CONNECTION_STATES, HEALTH_CAUSES, type HealthCause } from '../core/health.ts';
import { ScopeName } from '../core/provider/web-address.ts';
import { POLICIES } from '../core/renewal/plan.ts';
import { ReadyLines } from './clients.ts';
import { CallAnswer, ClientName, ConnectionName, Id, Instant, ProviderName } from './common.ts';

export const Policy = z
  .enum(POLICIES)
  .describe('Renew always in time; only while it was handed out in the last 30 days; or when a caller asks. It is kept alive in any case');

export const GRANT_TYPES = ['authorization_code', 'client_credentials'] as const;
const Operations = z.array(z.string().max(90)).max(200).describe('Operations of the API that it is for: they say which scopes it needs');

export const AddConnection = z.strictObject({
  name: ConnectionName,
  provider: ProviderName,
  client: ClientName,
  grant_type: z.enum(GRANT_TYPES).optional().describe('Left out: a code for clients that people sign in to, client_credentials for service accounts'),
  scopes: z.array(ScopeName).max(100),
  operations: Operations.default([]),
  placeholders: z.record(z.string().max(40), z.string().max(200)).default({}).describe('Values that the definition asks for at the connection'),
  expected_account: z.string().trim().max(200).nullable().default(null),
  policy: Policy.default('always'),
  allow_unlisted_scopes: z.boolean().default(false).describe('Take scopes that the definition does not list, as they are'),
});
export const ChangeConnection = z
  .strictObject({
    revision: z.number().int().min(1),
    scopes: z.array(ScopeName).max(100).optional(),
    operations: Operations.optional(),
    expected_account: z.string().trim().max(200).nullable().optional(),
    policy: Policy.optional(),
    allow_unlisted_scopes: z.boolean().default(false),
  })
  .refine((change) => change.scopes !== undefined || change.operations !== undefined || change.expected_account !== undefined || change.policy !== undefined, {
    error: 'Name at least one thing to change.',
  });
export const ListConnections = z.object({
  search: z.string().trim().max(100).optional().describe('Part of a name, account, provider or client'),
  after: z.string().max(63).optional().describe('Names after this one: the last of the page before'),
  limit: z.coerce.number().int().min(1).max(500).default(100),
});

/** The life line: one access token from issue over due to expiry, and the renewals of the last day. */
export const LifeLine = z.object({
  issued_at: Instant,
  due_at: Instant.nullable(),
  expires_at: Instant,
  renewed_at: z.array(Instant).describe('Renewals of the last day, newest first, at most 200'),
});
export type LifeLine = z.output<typeof LifeLine>;

export const ConnectionSummary = z.object({
  name: ConnectionName,
  provider: ProviderName,
  provider_title: z.string(),
  client: ClientName,
  environment: z.string(),
  rehearsal: z.boolean().describe('Its client stands at a simulated provider'),
  state: z.enum(CONNECTION_STATES),
  cause_key: z.enum(Object.keys(HEALTH_CAUSES) as [HealthCause, ...HealthCause[]]).nullable(),
  cause: z.string().nullable(),
  remedy: z.string().nullable(),
  account: z.string().nullable(),
  life: LifeLine.nullable(),
  renewals: z.number().int(),
});
export type ConnectionSummary = z.output<typeof ConnectionSummary>;

export const Connection = ConnectionSummary.extend({
  grant_type: z.enum(GRANT_TYPES),
  placeholders: z.record(z.string(), z.string()),
  base_url: z.string().describe('The API\u2019s address, composed'),
  operations: z.array(z.string()),
  operations_lacking: z.array(z.string()).describe('Ticked operations that the scopes held do not allow'),
  weaker_client: z.string().nullable().describe('A weaker client that would do for the ticked operations'),
  scopes_by_themselves: z.array(z.string()).describe('Asked for only because our identity check needs them'),
  scopes_requested: z.array(z.string()),
  scopes_granted: z.array(z.string()).nullable(),
  scopes_missing: z.array(z.string()),
  expected_account: z.string().nullable(),
  consented_at: Instant.nullable(),
  consented_by: z.string().nullable(),
  has_refresh_token: z.boolean(),
  evidence: z.string().nullable().describe('What the provider last said when something went wrong'),
  policy: Policy,
  api_base_url: z.string().nullable().describe('Named by the token answer'),
  agree_again_by: Instant.nullable().describe('When the grant ends by the provider\u2019s rules, however often it is renewed'),
  next_renewal_at: Instant.nullable(),
  failures: z.number().int(),
  ready: ReadyLines.describe('What is known before a consent'),
  scopes_needed: z.array(z.string()).describe('What the ticked operations need at least'),
  scopes_registered: z.array(z.string()).describe('Registered for the client at the provider; empty: not entered'),
  resource: z.string().describe('Names this connection at our token endpoint (RFC 8707)'),
  callers: z.array(z.string()),
  probe: z.object({ path: z.string(), state: z.enum(['not_defined', 'not_tried', 'proved', 'failed']), last: CallAnswer.nullable() }),
  revision: z.number().int(),
  created_at: Instant,
});
export type Connection = z.output<typeof Connection>;

export const OpenedConsent = z.object({
  id: Id,
  start_url: z.string().describe('Where the person goes; where the client asks for itself, the page that says how it went'),
  by_itself: z.boolean().describe('Nobody needs to consent: the client asks for itself'),
  expires_at: Instant,
  warnings: z.array(z.string()).describe('What this consent may cost, said before'),
  ready: ReadyLines,
});
export const PrintedCode = z.strictObject({
  code: z
    .string()
    .max(2000)
    .transform((text) => text.trim())
    .pipe(z.string().min(1).max(1500)),
});
export const Revoked = z.object({ revoked_there: z.boolean().nullable().describe('Null: the provider has no way to be told'), says: z.string() });
export type OpenedConsent = z.output<typeof OpenedConsent>;

export const CONSENT_PHASES = ['offered', 'started', 'exchanging', 'proving', 'done', 'failed'] as const;
export const ConsentOutcome = z.object({
  id: Id,
  connection: ConnectionName,
  provider: ProviderName,
  provider_title: z.string(),
  client: ClientName,
  phase: z.enum(CONSENT_PHASES),
  by_itself: z.boolean().describe('Nobody consented: the client asked for itself'),
  wants_code: z
    .object({ page: z.string().nullable(), seconds: z.number().int(), called: z.string().describe('What that page is called over there') })
    .nullable()
    .describe('The provider\u2019s console prints a code, which is pasted here'),
  rehearsal: z.boolean(),
  expires_at: Instant,
  redirect_uri: z.string(),
  finished_at: Instant.nullable(),
  account: z.object({ id: z.string(), label: z.string() }).nullable(),
  scopes: z.object({ requested: z.array(z.string()), granted: z.array(z.string()), missing: z.array(z.string()), unasked: z.array(z.string()) }).nullable(),
  refresh_token: z.boolean().nullable(),
  access_token_life_seconds: z.number().nullable(),
  first_call: CallAnswer.nullable(),
  problem: z
    .object({ title: z.string(), evidence: z.string().nullable(), side: z.enum(['person', 'client', 'provider', 'ours']), remedy: z.string() })
    .nullable(),
  warnings: z.array(z.string()),
});
export type ConsentOutcome = z.output<typeof ConsentOutcome>;

/** One attempt to renew, as it went over the wire: secrets and tokens are masked before it is stored. */
export const Attempt = z.object({
  at: Instant,
  class: z.string().describe('The failure class, or tokens'),
  request: z.object({ method: z.string(), url: z.string(), headers: z.record(z.string(), z.string()), form: z.record(z.string(), z.string()) }),
  answer: z.object({ status: z.number().int(), headers: z.record(z.string(), z.string()), body: z.unknown() }).nullable(),
  reason: z.string().nullable().describe('Why no answer came'),
  took_ms: z.number(),
});
export type Attempt = z.output<typeof Attempt>;

export const CallRequest = z.strictObject({
  method: z.literal('GET', { error: 'Only GET for now.' }).default('GET'),
  path: z.string().min(1).max(4000).describe('A path of the API, or an address below one of its base URLs'),
});
