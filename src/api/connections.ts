import { z } from 'zod';
import { CONNECTION_STATES, HEALTH_CAUSES, type HealthCause } from '../core/health.ts';
import { GRANT_KINDS, GRANT_TYPES, WAYS } from '../core/oauth/grant-kinds.ts';
import { ScopeName } from '../core/provider/web-address.ts';
import { POLICIES } from '../core/renewal/plan.ts';
import { ReadyLines } from './clients.ts';
import {
  CallAnswer,
  ClientName,
  ClientToUse,
  ConnectionName,
  Id,
  Instant,
  Label,
  LabelFilter,
  LabelToGive,
  NewName,
  ProviderName,
  RelayedCalls,
} from './common.ts';
import { Diagnosis } from './diagnosis.ts';
import { refersTo } from './references.ts';

export const Policy = z
  .enum(POLICIES)
  .describe('Renew always in time; only while it was issued in the last 30 days; or when a caller asks. The grant is kept active in any case');

const Operations = z.array(z.string().max(90)).max(200).describe('Operations of the API that it is for: they say which scopes it needs');

const Labels = refersTo('kept_labels', z.array(Label).max(20).describe('By which callers can be permitted a group of connections'));

/** `NAME@CODE` has to fit where names stand. */
const MAX_SHARED_NAME = 46;
const AddedConnection = z.strictObject({
  name: NewName,
  shared: z.boolean().default(false).describe('Holds one grant for each person, who connect their own accounts by invitation'),
  provider: ProviderName,
  client: ClientToUse,
  grant_type: z
    .enum(GRANT_TYPES)
    .optional()
    .describe(
      'Left out: a code for clients that people sign in to, client_credentials for service accounts. With jwt_bearer, `expected_account` is the account in whose name it asks',
    ),
  scopes: z.array(ScopeName).max(100),
  operations: Operations.default([]),
  placeholders: z.record(z.string().max(40), z.string().max(200)).default({}).describe('Values that the definition asks for at the connection'),
  expected_account: z.string().trim().max(200).nullable().default(null),
  policy: Policy.default('always'),
  labels: Labels.default([]),
  allow_unlisted_scopes: z.boolean().default(false).describe('Take scopes that the definition does not list, as they are'),
});
export const AddConnection = AddedConnection.refine((one) => !one.shared || one.name.length <= MAX_SHARED_NAME, {
  path: ['name'],
  error: `The name of a shared connection has at most ${MAX_SHARED_NAME} characters.`,
});
export const ChangeConnection = z
  .strictObject({
    revision: z.number().int().min(1),
    scopes: z.array(ScopeName).max(100).optional(),
    operations: Operations.optional(),
    expected_account: z.string().trim().max(200).nullable().optional(),
    policy: Policy.optional(),
    labels: Labels.optional(),
    allow_unlisted_scopes: z.boolean().default(false),
  })
  .refine(
    (change) =>
      change.scopes !== undefined ||
      change.operations !== undefined ||
      change.expected_account !== undefined ||
      change.policy !== undefined ||
      change.labels !== undefined,
    { error: 'Name at least one thing to change.' },
  );
export const ListConnections = z.object({
  search: z.string().trim().max(100).optional().describe('Part of a name, account, provider, client, label or state'),
  label: LabelFilter.optional(),
  state: z.enum(CONNECTION_STATES).optional(),
  provider: ProviderName.optional(),
  client: ClientName.optional().describe('Of the provider given'),
  after: z.string().max(63).optional().describe('Names after this one: the last of the page before'),
  limit: z.coerce.number().int().min(1).max(500).default(100),
});

/** One action on many connections. */
export const BulkChange = z
  .strictObject({
    connections: z.array(ConnectionName).min(1).max(500),
    action: z.enum(['pause', 'resume', 'renew', 'add_label', 'remove_label']),
    label: LabelToGive.optional().describe('For add_label and remove_label'),
  })
  .refine((change) => change.action.endsWith('_label') === (change.label !== undefined), {
    path: ['label'],
    message: 'a label is needed with add_label and remove_label, and allowed with no other action',
  });
export const BulkOutcome = z.object({
  items: z.array(z.object({ connection: ConnectionName, done: z.boolean(), problem: z.string().nullable() })),
  done: z.number().int().describe('For how many it succeeded'),
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
  shared: z.boolean().describe('Holds one grant for each person'),
  person: z
    .object({ of: ConnectionName, key: z.string(), name: z.string().nullable() })
    .nullable()
    .describe('Of one person: the shared connection, and the application\u2019s own key and name for the person'),
  state: z.enum(CONNECTION_STATES),
  cause_key: z.enum(Object.keys(HEALTH_CAUSES) as [HealthCause, ...HealthCause[]]).nullable(),
  cause: z.string().nullable(),
  remedy: z.string().nullable(),
  account: z.string().nullable(),
  labels: z.array(Label),
  life: LifeLine.nullable(),
  renewals: z.number().int(),
});
export type ConnectionSummary = z.output<typeof ConnectionSummary>;

/** A grant that waits beside the current one. */
export const Standby = z.object({
  why: z.enum(['prepared', 'former', 'other_account', 'not_verified']),
  kind: z.enum(GRANT_KINDS),
  account: z.string().nullable(),
  opened: z.string().nullable(),
  client: ClientName,
  scopes: z.array(z.string()),
  consented_at: Instant,
  proof: z.enum(['not_defined', 'not_verified', 'verified', 'failed']),
  alive: z.boolean(),
  says: z.string(),
});
export const Capability = z.object({
  name: z.string(),
  api: z.string(),
  call: z.string().describe('Method and path'),
  effects: z.boolean().describe('It changes something at the provider, or someone sees it: made only when requested'),
  allowed: z.boolean().describe('The scopes held allow it'),
  state: z.enum(['not_verified', 'verified', 'failed']),
  at: Instant.nullable(),
  diagnosis: Diagnosis.nullable(),
});
/** Expiration and renewal: what keeps it active, what ends it first and when, and what of that was seen. */
export const Lifetime = z.object({
  verdict: z.enum(['lives', 'ends', 'not_known', 'not_consented']),
  says: z.string(),
  lines: z.array(z.object({ what: z.string(), verdict: z.enum(['good', 'doubt', 'bad']), says: z.string(), remedy: z.string().nullable() })),
  ends: z.array(z.object({ what: z.string(), at: Instant })).describe('What ends it, the first one first'),
  may_verify_renewal: z.boolean().describe('One renewal can be verified at no risk'),
});
export const AdminConsent = z.object({
  scopes: z.array(z.string()),
  link: z.string(),
  text: z.string().describe('To be sent to whoever may agree'),
  check: z.boolean().describe('Whether the consent can be checked without a person'),
});

export const Connection = ConnectionSummary.extend({
  grant_type: z.enum(GRANT_TYPES),
  grant_kind: z.enum(GRANT_KINDS).nullable().describe('What the tokens in use came from'),
  ways: z.array(z.enum(WAYS)).describe('How an agreement can travel back, the usual way first'),
  takes_key: z.boolean().describe('Its API also takes a static key'),
  opened: z.string().nullable().describe('What was opened by the consent: the organization, site or sub-account'),
  standby: Standby.nullable(),
  capabilities: z.array(Capability),
  lifetime: Lifetime,
  diagnosis: Diagnosis.nullable().describe('What the last failure means'),
  claims: z.record(z.string(), z.string()).nullable().describe('Claims of the access token, where it is a JWT; never the token'),
  admin_consent: AdminConsent.nullable().describe('Where the whole organization needs admin consent first'),
  callers_last_used: z
    .array(
      z.object({
        caller: z.string(),
        at: Instant.nullable(),
        says: z.string().describe('What it may do'),
        tokens_last_hour: z.number().int(),
        relayed_last_hour: z.number().int(),
        refused_last_hour: z.number().int(),
        relay: RelayedCalls.nullable().describe('Its relayed calls of the last day; null: none'),
      }),
    )
    .describe('Who uses it: everyone who may, with the last use'),
  relay_url: z.string().describe('Where callers send their calls to have the token added'),
  scopes_unused: z.array(z.string()).describe('Granted, and needed by nothing that is ticked'),
  open_consent: z
    .object({ id: Id, phase: z.string(), way: z.string(), opened_by: z.string(), expires_at: Instant })
    .nullable()
    .describe('A consent that was started and is not finished: it can be gone on with'),
  revocation: z
    .object({ says: z.string(), tries: z.number().int(), next_at: Instant.nullable() })
    .nullable()
    .describe('A revocation of which the provider does not know yet'),
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
  reconnect_by: Instant.nullable().describe('When the grant ends by the provider\u2019s rules, however often it is renewed'),
  next_renewal_at: Instant.nullable(),
  failures: z.number().int(),
  ready: ReadyLines.describe('What is known before a consent'),
  scopes_needed: z.array(z.string()).describe('What the ticked operations need at least'),
  scopes_registered: z.array(z.string()).describe('Registered for the client at the provider; empty: not entered'),
  resource: z.string().describe('Names this connection at our token endpoint (RFC 8707)'),
  callers: z.array(z.string()),
  probe: z.object({ path: z.string(), state: z.enum(['not_defined', 'not_verified', 'verified', 'failed']), last: CallAnswer.nullable() }),
  revision: z.number().int(),
  created_at: Instant,
});
export type Connection = z.output<typeof Connection>;

export const OpenConnection = z.strictObject({
  way: z.enum(WAYS).optional().describe('How the agreement travels back; left out: the usual way'),
  client: ClientToUse.optional().describe('Another client of the same provider: the connection switches to it once the new tokens are verified'),
  placeholders: z.record(z.string().max(40), z.string().max(200)).optional().describe('With another client: values that are requested at the connection'),
  end_oldest: z.boolean().default(false).describe('If the provider limits the number of refresh tokens: continue although the oldest one expires'),
  prepare: z.boolean().default(false).describe('Keep the new tokens beside those in use, for a stated switch'),
  port: z.number().int().min(1024).max(65_535).optional().describe('With the way `loopback`: where the program listens, if not at the registered port'),
});
/** What came back by hand or by a program on the engineer's machine. */
export const AnswerConsent = z.strictObject({ pasted: z.string().min(1).max(8_000) });
export const ExplainPage = z.strictObject({
  page: z.string().trim().min(1).max(8_000).describe('The words of the page on which the provider stopped, or its address'),
});
export const ImportToken = z.strictObject({
  refresh_token: z.string().trim().min(1).max(15_000),
  scopes: z.array(ScopeName).max(100).optional().describe('What it was granted, where known; left out: those of the connection'),
});
export const SetKey = z.strictObject({ key: z.string().trim().min(1).max(4_000) });
export const DecideStandby = z.strictObject({
  decision: z.enum(['use', 'discard']),
  path: z.string().min(1).max(4_000).optional().describe('The reference call, made before and after; left out: the probe'),
});
export const CheckedAdminConsent = z.object({ consented: z.boolean().nullable().describe('Null: unknown'), says: z.string(), evidence: z.string() });
export const Compared = z.object({ same: z.boolean(), differences: z.array(z.string()) });
export const DecidedStandby = z.object({
  decision: z.enum(['use', 'discard']),
  says: z.string(),
  before: CallAnswer.nullable(),
  after: CallAnswer.nullable(),
  compared: Compared.nullable(),
  went_back: z.boolean().describe('The call with the new tokens failed: the former ones are in use again'),
});
export const ProbeRequest = z.strictObject({
  capability: z.string().max(100).optional().describe('Left out: the first without effects'),
  effects: z.boolean().default(false).describe('Yes to a call that changes something at the provider, or that someone sees'),
});
export const OpenedConsent = z.object({
  id: Id,
  way: z.enum(WAYS),
  authorization_url: z.string().nullable().describe('Where the browser goes, where no redirect to this service is waited for'),
  redirect_uri: z.string().nullable(),
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
export const Revoked = z.object({ revoked_there: z.boolean().nullable().describe('Null: the provider has no revocation endpoint'), says: z.string() });
export type OpenedConsent = z.output<typeof OpenedConsent>;

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

export const CONSENT_PHASES = ['offered', 'started', 'polling', 'exchanging', 'verifying', 'done', 'failed'] as const;
export const ConsentOutcome = z.object({
  id: Id,
  connection: ConnectionName,
  provider: ProviderName,
  provider_title: z.string(),
  client: ClientName,
  phase: z.enum(CONSENT_PHASES),
  by_itself: z.boolean().describe('Nobody consented: the client asked for itself'),
  way: z.enum(WAYS).or(z.literal('imported')),
  device: z
    .object({ user_code: z.string(), page: z.string(), page_with_code: z.string().nullable(), interval_seconds: z.number(), polls: z.number().int() })
    .nullable()
    .describe('A code that is entered on another device (RFC 8628)'),
  wants_pasted: z.boolean().describe('The address at which the browser stopped is pasted here'),
  authorization_url: z.string().nullable().describe('Where the browser goes; for the operator who opened it'),
  moves_to: ClientName.nullable().describe('The client to which the connection moves once this is verified'),
  prepares: z.boolean(),
  decide: z.enum(['prepared', 'former', 'other_account', 'not_verified']).nullable().describe('The tokens wait beside those in use'),
  lifetime: Lifetime.nullable(),
  attempts: z.array(Attempt).describe('Token requests and answers of this consent, masked; for operators'),
  wants_code: z
    .object({ page: z.string().nullable(), seconds: z.number().int(), called: z.string().describe('What that page is called at the provider') })
    .nullable()
    .describe('The provider\u2019s console prints a code, which is pasted here'),
  rehearsal: z.boolean(),
  expires_at: Instant,
  redirect_uri: z.string(),
  finished_at: Instant.nullable(),
  account: z.object({ id: z.string(), label: z.string() }).nullable(),
  opened: z.string().nullable().describe('What was opened: the organization, site or sub-account'),
  scopes: z.object({ requested: z.array(z.string()), granted: z.array(z.string()), missing: z.array(z.string()), unasked: z.array(z.string()) }).nullable(),
  refresh_token: z.boolean().nullable(),
  access_token_life_seconds: z.number().nullable(),
  first_call: CallAnswer.nullable(),
  problem: z
    .object({
      title: z.string(),
      evidence: z.string().nullable(),
      side: Diagnosis.shape.side,
      remedy: z.string(),
      diagnosis: Diagnosis.optional().describe('Left out in outcomes of earlier versions, and where it is plain'),
    })
    .nullable(),
  page_diagnosis: Diagnosis.nullable().describe('What the pasted page of the provider means'),
  warnings: z.array(z.string()),
});
export type ConsentOutcome = z.output<typeof ConsentOutcome>;
