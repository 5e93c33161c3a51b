import { z } from 'zod';
import { IDENTITY_KINDS } from '../core/callers/assertion-kinds.ts';
import { whyNoTokenPath } from '../core/callers/own-path.ts';
import { PATH_PATTERN, PEOPLE_RIGHTS, RELAY_METHODS, USES } from '../core/callers/permissions.ts';
import { SETUP_KINDS } from '../core/callers/setup-instructions.ts';
import { whyNoToolRedirect } from '../core/callers/tool-redirect.ts';
import { CONNECTION_STATES } from '../core/health.ts';
import { CallerName, ConnectionName, Id, Instant, Label, NewName, PermittedLabel, RelayedCalls } from './common.ts';

const said = (why: (text: string) => string | null) => (text: string, context: { addIssue(issue: { code: 'custom'; message: string }): void }) => {
  const wrong = why(text);
  if (wrong !== null) context.addIssue({ code: 'custom', message: wrong });
};

/** What a caller may do with one connection, or with all that carry a label. */
const PermissionMembers = {
  use: z.enum(USES).default('any').describe('Fetch tokens, send calls through the relay, or either'),
  methods: z.array(z.enum(RELAY_METHODS)).max(10).default([]).describe('Methods that pass the relay; none named: all'),
  paths: z
    .array(z.string().max(300).regex(PATH_PATTERN, { error: 'A path such as /parcels/*, or /parcels/** for all below it.' }))
    .max(50)
    .default([])
    .describe('Paths that pass the relay; none named: all. * is one segment, ** at the end is everything below'),
  share: z.number().int().min(1).max(100).nullable().default(null).describe('The most of each quota window that it may use, in percent'),
  people: z
    .enum(PEOPLE_RIGHTS)
    .default('none')
    .describe('Of a shared connection: see its people and the events of those it invited; or invite and disconnect people as well'),
};
export const Permit = z
  .strictObject({ connection: ConnectionName.optional(), label: PermittedLabel.optional(), ...PermissionMembers })
  .refine((one) => (one.connection === undefined) !== (one.label === undefined), {
    error: 'Name a connection or a label, one of the two.',
    path: ['connection'],
  });
export const Permission = z.object({
  id: Id,
  connection: ConnectionName.nullable(),
  label: Label.nullable(),
  use: z.enum(USES),
  methods: z.array(z.string()),
  paths: z.array(z.string()),
  share: z.number().int().nullable(),
  people: z.enum(PEOPLE_RIGHTS),
  says: z.string(),
  covers: z.array(ConnectionName).describe('The connections that it opens now, the first by name'),
  covers_total: z.number().int(),
});
export type Permission = z.output<typeof Permission>;

const ToolMembers = {
  token_path: z.string().superRefine(said(whyNoTokenPath)).nullable().optional().describe('A further token path, for tools that build it from fixed boxes'),
  redirect_uris: z
    .array(z.string().max(1000).superRefine(said(whyNoToolRedirect)))
    .max(20)
    .optional()
    .describe('Where sign-in for tools sends the browser back, for tools that sign in'),
  keeps_no_secret: z.boolean().optional().describe('The tool runs where it cannot keep a key, as a desktop program or a page: PKCE alone verifies it'),
};
const Names = z.array(ConnectionName).max(200).describe('Connections that it may use in either way: the short form of permissions');
export const AddCaller = z.strictObject({ name: NewName, title: z.string().max(80).default(''), connections: Names.default([]), ...ToolMembers });
export const ChangeCaller = z.strictObject({ title: z.string().max(80).optional(), connections: Names.optional(), ...ToolMembers });
export const AddKey = z.strictObject({
  label: z.string().trim().max(60).default(''),
  ends_at: Instant.nullable().default(null).describe('When it expires'),
});

export const CallerKey = z.object({
  id: Id,
  label: z.string(),
  starts: z.string().describe('The first characters, to tell keys apart'),
  added_at: Instant,
  last_used_at: Instant.nullable(),
  retired_at: Instant.nullable().describe('When it stopped working, or will'),
});
export const CallerSummary = z.object({
  name: CallerName,
  title: z.string(),
  caller_id: z.string().describe('What programs send as client_id'),
  keys: z.array(CallerKey),
  connections: z.array(ConnectionName).describe('What it may use now, by name or by label; the first by name'),
  connections_total: z.number().int(),
  tokens_last_hour: z.number().int(),
  relayed_last_hour: z.number().int(),
  refused_last_hour: z.number().int(),
  last_used_at: Instant.nullable(),
  token_url: z.string(),
});
export type CallerSummary = z.output<typeof CallerSummary>;

export const SignedInTool = z.object({
  id: Id,
  connection: ConnectionName,
  operator: z.string(),
  signed_in_at: Instant,
  last_used_at: Instant.nullable(),
  ended_at: Instant.nullable(),
  ended_why: z.string().nullable(),
});
export const Identity = z.object({
  id: Id,
  kind: z.enum(IDENTITY_KINDS),
  label: z.string(),
  says: z.string(),
  created_by: z.string(),
  created_at: Instant,
  last_used_at: Instant.nullable(),
});
export type Identity = z.output<typeof Identity>;
const WebUrl = z.url({ protocol: /^https?$/ }).max(1_000);
const IdentityLabel = z.string().trim().max(60).default('');
const Jwks = z.object({ keys: z.array(z.record(z.string(), z.unknown())).min(1).max(20) });
export const AddIdentity = z.discriminatedUnion('kind', [
  z
    .strictObject({ kind: z.literal('key'), label: IdentityLabel, jwks: Jwks.optional().describe('Public keys (RFC 7517)'), jwks_url: WebUrl.optional() })
    .refine((one) => (one.jwks === undefined) !== (one.jwks_url === undefined), { error: 'Give jwks or jwks_url, one of the two.', path: ['jwks'] }),
  z.strictObject({
    kind: z.literal('workload'),
    label: IdentityLabel,
    issuer: WebUrl.describe('The `iss` of its tokens; keys are found by its metadata'),
    jwks_url: WebUrl.optional().describe('Where its keys are, if it has no metadata'),
    audience: z.string().max(1_000).optional().describe('The `aud` of its tokens; left out: the address of this service'),
    claims: z
      .record(z.string().max(100), z.string().min(1).max(500))
      .refine((claims) => Object.keys(claims).length > 0, { error: 'Name at least one claim: else every token of this issuer is the caller.' })
      .describe('Claims that must be so; a value ending in * matches what begins so'),
  }),
  z
    .strictObject({
      kind: z.literal('certificate'),
      label: IdentityLabel,
      certificate: z.string().max(20_000).optional().describe('In PEM: this certificate and no other'),
      subject: z.string().max(1_000).optional().describe('Its subject, where only certificates of your own authority are accepted'),
    })
    .refine((one) => (one.certificate === undefined) !== (one.subject === undefined), {
      error: 'Give certificate or subject, one of the two.',
      path: ['certificate'],
    }),
]);
export const RotateKey = z.strictObject({
  label: z.string().trim().max(60).default(''),
  overlap_hours: z
    .number()
    .min(0)
    .max(24 * 90)
    .default(24)
    .describe('How long the former keys work on'),
});
export const Caller = CallerSummary.extend({
  identities: z.array(Identity).describe('How it authenticates without a secret that is stored here'),
  permissions: z.array(Permission),
  uses: z
    .array(
      z.object({
        connection: ConnectionName,
        labels: z.array(Label).describe('Those that the caller is permitted by'),
        tokens: z.number().int(),
        relayed: z.number().int(),
        refused: z.number().int().describe('By us, or for want of quota'),
        last_at: Instant,
        minutes: z.array(z.number().int()).describe('Uses in each of the last 60 minutes, the newest last'),
        relay: RelayedCalls.nullable().describe('Its relayed calls of the last day; null: none'),
      }),
    )
    .describe('The last day: what stops when it ends; those that were used last'),
  uses_total: z.number().int(),
  token_path: z.string().nullable(),
  redirect_uris: z.array(z.string()),
  keeps_no_secret: z.boolean(),
  signed_in: z.array(SignedInTool).describe('Tools that signed in here'),
});
export type Caller = z.output<typeof Caller>;

export const UsageQuery = z.object({
  caller: CallerName.optional(),
  connection: ConnectionName.optional(),
  minutes: z.coerce.number().int().min(1).max(44_640).default(60).describe('How far back'),
  limit: z.coerce.number().int().min(1).max(5_000).default(500),
});
export const UsageLine = z.object({ minute: Instant, caller: CallerName, connection: ConnectionName, outcome: z.string(), count: z.number().int() });
export type UsageLine = z.output<typeof UsageLine>;

export const SetupQuery = z.object({ connection: ConnectionName });
/** What to paste where, for one kind of tool. */
export const SetupInstructions = z.object({
  kind: z.enum(SETUP_KINDS),
  title: z.string(),
  fits: z.string().describe('How to tell that a tool is of this kind'),
  ready: z.boolean(),
  missing: z.array(z.string()).describe('What has to be set here first'),
  weaker: z.string().nullable().describe('What is weaker about this way'),
  boxes: z.array(
    z.object({
      box: z.string().describe('What tools call it'),
      value: z.string(),
      as: z.enum(['value', 'words', 'secret']).describe('A value to copy, words that say what goes in, or a secret that is not shown'),
      note: z.string(),
    }),
  ),
  steps: z.array(z.string()),
  text: z.string().describe('An example to copy, empty where there is none'),
});
export type SetupInstructions = z.output<typeof SetupInstructions>;
/** The only answer that ever carries a key. */
export const NewKey = z.object({ caller: CallerName, caller_id: z.string(), key: z.string(), token_url: z.string(), resources: z.array(z.string()) });
export type NewKey = z.output<typeof NewKey>;

/** A tool's sign-in request, for whoever is asked. */
export const SignInRequest = z.object({
  id: Id,
  caller: CallerName,
  title: z.string(),
  returns_to: z.string().describe('The origin to which the browser goes back'),
  pkce: z.boolean(),
  wished: ConnectionName.nullable(),
  connections: z.array(
    z.object({
      name: ConnectionName,
      provider_title: z.string(),
      environment: z.string(),
      account: z.string().nullable(),
      state: z.enum(CONNECTION_STATES),
      says: z.string(),
    }),
  ),
  phase: z.enum(['asked', 'answered', 'ended']),
  expires_at: Instant,
});
export type SignInRequest = z.output<typeof SignInRequest>;
export const AnswerSignInRequest = z.strictObject({ connection: ConnectionName.nullable().describe('Null: no') });
export const SignInRequestAnswered = z.object({ location: z.string().describe('Where the browser goes now') });
