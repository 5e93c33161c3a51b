import { z } from 'zod';
import { KEY_KINDS } from '../core/certificates/kinds.ts';
import { SECRET_STATES } from '../core/clients/choose-secret.ts';
import { CLIENT_ASSERTION_ALGORITHMS, CLIENT_AUTHENTICATION_METHODS, SECRET_KINDS } from '../core/oauth/methods.ts';
import { POWERS } from '../core/provider/definition.ts';
import { APPROVALS, CLIENT_TYPES, ENVIRONMENTS, REACHES } from '../core/provider/kinds.ts';
import { ANSWERS } from '../core/provider/registration.ts';
import { ScopeName } from '../core/provider/web-address.ts';
import { ClientName, Id, Instant, ProviderName } from './common.ts';

/** One word for a client, by precedence. */
export const CLIENT_STATES = ['retired', 'draft', 'stopped', 'rejected', 'info_requested', 'requested', 'not_requested', 'ready', 'working'] as const;
const Environment = z.enum(ENVIRONMENTS);
const Values = z.record(z.string().max(40), z.string().max(200));
const Accounts = z.array(z.string().trim().min(1).max(200)).max(500);

export const AddClient = z.strictObject({
  provider: ProviderName,
  name: ClientName,
  title: z.string().max(80).default(''),
  type: z.enum(CLIENT_TYPES).optional().describe('Left out: the first that the definition names'),
  environment: Environment.default('live'),
  variant: z.string().max(40).nullable().default(null).describe('A variant that no environment chooses'),
  placeholders: Values.default({}).describe('Values for the placeholders that the definition asks for at the client'),
  rehearsal_port: z
    .number()
    .int()
    .min(1)
    .max(65_535)
    .nullable()
    .default(null)
    .describe('The port on this machine where a simulated provider runs (rk standin FILE): the client is then a rehearsal'),
});
const Answer = z.string().trim().max(2000);
/** What forms of providers ask for again and again, answered once for the installation. */
export const Answers = z.object(Object.fromEntries(ANSWERS.map((name) => [name, Answer])) as Record<(typeof ANSWERS)[number], typeof Answer>);
export type Answers = z.output<typeof Answers>;
export const ChangeAnswers = Answers.partial()
  .strict()
  .refine((change) => Object.keys(change).length > 0, { error: 'Name at least one answer.' });
const Answered = z.array(z.strictObject({ question: z.string().trim().min(1).max(200), answer: z.string().trim().min(1).max(2000) })).max(30);
export const RecordRequest = z.strictObject({
  form: z.string().trim().min(1).max(120).describe('The form by which it was sent, or how else'),
  answers: Answered.min(1).describe('What was sent, as it was sent'),
  requested_on: z.iso.date().optional().describe('Left out: today'),
  expected_on: z.iso.date().nullable().default(null),
});
export const ReadyLines = z.object({
  ready: z.boolean(),
  says: z.string().describe('In one line: ready, or what is missing'),
  lines: z.array(z.object({ what: z.string(), verdict: z.enum(['good', 'missing', 'doubt']), says: z.string(), remedy: z.string().nullable() })),
});
const ClientId = z
  .string()
  .max(600)
  .transform((text) => text.trim())
  .pipe(
    z
      .string()
      .min(1)
      .max(500)
      .regex(/^[\x20-\x7e]+$/, { error: 'A client id is printable ASCII (RFC 6749 Appendix A.1).' }),
  );
/** What is remembered of registering a client: steps done, for what purpose, how approval was requested, where it lies at the provider. */
export const Registering = z.strictObject({
  done: z.array(z.string().max(120)).max(40).describe('Titles of the guide\u2019s steps that are done'),
  purpose: z.string().max(60).nullable(),
  requested_on: z.iso.date().nullable(),
  request_form: z.string().trim().max(120).describe('The form, or how else it was requested'),
  expected_on: z.iso.date().nullable(),
  notes: z.string().trim().max(2000),
  own_page: z.string().trim().max(1000).describe('This client\u2019s page at the provider'),
  registered_by: z.string().trim().max(120),
  approved_on: z.iso.date().nullable().describe('When approval came, or was first seen'),
  redirect_uris_there: z.array(z.string().max(2000)).max(50).nullable().describe('Redirect URIs as the provider shows them; null: nobody pasted them back'),
  domains_there: z.array(z.string().trim().max(253)).max(50).nullable().describe('Domains listed at the provider; null: nobody entered them'),
});
export const Requested = z.array(
  z.object({ form: z.string(), sent_on: z.string(), sent_by: z.string(), answers: z.array(z.object({ question: z.string(), answer: z.string() })) }),
);
export type Registering = z.output<typeof Registering>;
const GuideStep = z.object({
  title: z.string(),
  side: z.enum(['provider', 'api']),
  page: z.string().optional(),
  where: z.string(),
  does: z.string(),
  do_not_confuse: z.string().optional(),
  leave_empty: z.string().optional(),
  instead: z.string().optional(),
  last_verified: z.string().optional(),
  brings: z.array(z.enum(['client_id', 'client_secret'])).describe('What the step brings, to be entered here'),
  done: z.boolean(),
  values: z.array(z.object({ name: z.string(), value: z.string() })),
  missing: z.array(z.string()),
});
export const ChangeClient = z
  .strictObject({
    revision: z.number().int().min(1),
    title: z.string().max(80).optional(),
    environment: Environment.optional(),
    client_id: ClientId.optional(),
    placeholders: Values.optional().describe('Where an address changes by it, nothing is sent until someone confirms'),
    method: z.enum(CLIENT_AUTHENTICATION_METHODS).optional().describe('How it authenticates at the token endpoint'),
    approval: z.enum(APPROVALS).optional(),
    reach: z.enum(REACHES).optional(),
    listed_accounts: Accounts.optional().describe('Who may sign in while it is open to listed accounts only'),
    registered_scopes: z.array(ScopeName).max(500).optional().describe('Scopes registered at the provider'),
    stage: z.enum(['active', 'retired']).optional(),
    registering: Registering.partial().optional().describe('What is remembered of registering it: only what is named changes'),
    take_as_is: z.boolean().default(false).describe('Take a value that does not look as the definition states'),
  })
  .refine((change) => Object.keys(change).length > 2, { error: 'Name at least one thing to change.' });
const KeyId = z.string().trim().min(1).max(200).nullable();
export const AddSecret = z.strictObject({
  secret: z
    .string()
    .max(20_000)
    .transform((text) => text.trim())
    .pipe(z.string().min(1)),
  kind: z.enum(SECRET_KINDS).default('secret').describe('`password`: of a service user; `certificate`, `key`: pasted as PEM'),
  label: z.string().trim().max(80).default(''),
  starts_at: Instant.nullable().default(null),
  ends_at: Instant.nullable().default(null).describe('Not in any provider response: look it up at the provider'),
  form: z.enum(['pem', 'pkcs12']).default('pem').describe('Of a certificate: PEM, or a PKCS#12 file as base64'),
  password: z.string().max(200).default('').describe('Of the PKCS#12 file'),
  key_id: KeyId.optional().describe('Of a key: the `kid` that is sent; null: none is. Left out: its RFC 7638 thumbprint'),
  algorithm: z.enum(CLIENT_ASSERTION_ALGORITHMS).optional().describe('Of a key: what it signs with. Left out: what the provider takes and the key can'),
  at_once: z.boolean().default(false).describe('Use it without proof; those before it are retired'),
  take_as_is: z.boolean().default(false),
});
export const ChangeSecret = z
  .strictObject({
    label: z.string().trim().max(80).optional(),
    ends_at: Instant.nullable().optional().describe('Null: not known'),
    key_id: KeyId.optional(),
    algorithm: z.enum(CLIENT_ASSERTION_ALGORITHMS).optional(),
  })
  .refine((change) => Object.keys(change).length > 0, { error: 'Name at least one thing to change.' });
export const MakeCertificate = z.strictObject({
  common_name: z.string().trim().min(1).max(64),
  key: z.enum(KEY_KINDS).default('RSA-2048'),
  starts_at: Instant.nullable().default(null),
  ends_at: Instant.nullable().default(null).describe('Left out: a year later'),
  label: z.string().trim().max(80).default(''),
});
const Digest = z.object({ hex: z.string(), base64: z.string(), base64url: z.string() });
export const ShownCertificate = z.object({
  subject: z.string().nullable(),
  starts_at: Instant.nullable(),
  ends_at: Instant.nullable(),
  pem: z.string().describe('The public part, to be uploaded at the provider'),
  der: z.string().nullable().describe('The same as DER, in base64'),
  thumbprints: z.object({ sha1: Digest, sha256: Digest }).nullable(),
  keys_url: z.string().describe('Where providers can fetch this client\u2019s public keys (JWKS)'),
});
export type ShownCertificate = z.output<typeof ShownCertificate>;
export const CompareThumbprint = z.strictObject({ pasted: z.string().trim().min(1).max(500).describe('What the provider shows, in any form') });
export const ThumbprintVerdict = z.object({ same: z.boolean(), says: z.string() });
export const ConfirmOrigins = z.strictObject({ password: z.string().min(1).max(200).describe('Your own password') });
export const PastedNotes = z.strictObject({ text: z.string().min(1).max(20_000), apply: z.boolean().default(false).describe('Save what was found') });
export const SortedNotes = z.object({
  found: z.array(
    z.object({
      field: z.string(),
      name: z.string(),
      line: z.number().int(),
      shows: z.string().describe('The value; of a secret only its length'),
      why: z.string(),
      saved: z.boolean(),
    }),
  ),
  unsorted: z.array(z.number().int()).describe('Lines that fit nothing'),
});
export const CheckRedirectUri = z.strictObject({ registered: z.string().min(1).max(8000).describe('As the provider shows it, one on each line; it is kept') });
export const RedirectUriVerdict = z.object({
  same: z.boolean(),
  ours: z.string(),
  shown: z.string().describe('The registered one that was compared'),
  says: z.string(),
  /** Index of the first differing character; null when they are the same. */
  at: z.number().int().nullable(),
});

export const ClientSecret = z.object({
  id: Id,
  kind: z.enum(SECRET_KINDS),
  label: z.string(),
  state: z.enum(SECRET_STATES),
  says: z.string(),
  entered_at: Instant,
  starts_at: Instant,
  ends_at: Instant.nullable(),
  verified_at: Instant.nullable(),
  refused_at: Instant.nullable(),
  evidence: z.string().nullable(),
  key: z
    .object({
      type: z.string(),
      kid: z.string().nullable().describe('The key id that is sent; null: none'),
      thumbprint: z.string().describe('Of the public key, RFC 7638'),
      algorithm: z.enum(CLIENT_ASSERTION_ALGORITHMS).nullable().describe('Null: as the definition states'),
      x5t: z.string().nullable(),
      x5t_s256: z.string().nullable(),
      subject: z.string().nullable(),
    })
    .nullable()
    .describe('Of a key or certificate: what may be shown'),
});
export type ClientSecret = z.output<typeof ClientSecret>;

export const Client = z.object({
  provider: ProviderName,
  provider_title: z.string(),
  name: ClientName,
  title: z.string(),
  type: z.enum(CLIENT_TYPES),
  environment: Environment,
  variant: z.string().nullable().describe('The variant of the definition that applies'),
  placeholders: Values,
  addresses: z.array(z.object({ what: z.string(), address: z.string() })).describe('As composed for this client'),
  client_id: z.string().nullable(),
  method: z.enum(CLIENT_AUTHENTICATION_METHODS),
  methods: z.array(z.enum(CLIENT_AUTHENTICATION_METHODS)),
  redirect_uri: z.string(),
  registration_page: z.string().nullable(),
  client_page: z.string().nullable().describe('This client\u2019s page at the provider'),
  rehearsal_port: z.number().int().nullable().describe('Not null: a rehearsal, at a simulated provider on this machine'),
  ready: ReadyLines,
  form: z
    .array(z.object({ question: z.string(), answer: z.string(), from: z.string().nullable() }))
    .describe('The questions of the access request form, with our answers'),
  requests: Requested.describe('What was sent by forms'),
  redirect_rules: z.array(z.string()).describe('What the provider\u2019s own rules say against our redirect URI'),
  words: z.record(z.string(), z.string()).describe('The provider\u2019s own words for ours'),
  state: z.enum(CLIENT_STATES),
  stage: z.enum(['draft', 'active', 'retired']),
  approval: z.enum(APPROVALS),
  approval_told: z.boolean().describe('Whether the token endpoint reports it, so that this service checks automatically'),
  approval_seen_at: Instant.nullable().describe('When this service last asked'),
  approval_evidence: z.string().nullable(),
  reach: z.enum(REACHES),
  reach_says: z.string().nullable().describe('What this reach costs'),
  listed_accounts: z.array(z.string()),
  health: z.enum(['working', 'stopped']),
  cause: z.string().nullable(),
  remedy: z.string().nullable(),
  missing: z.array(z.string()).describe('What is missing before a connection can be opened; empty: ready'),
  guide: z.array(GuideStep).describe('The steps of registering it, with its own values'),
  purposes: z.array(z.string()).describe('By which the steps differ'),
  registering: Registering,
  unconfirmed_origins: z.array(z.string()).describe('New addresses to which nothing is sent until an operator confirms them'),
  registered_scopes: z.array(z.string()),
  privilege: z.object({ power: z.enum(POWERS).nullable(), acts_for_itself: z.boolean(), unlisted: z.array(z.string()), says: z.string() }),
  secret: z
    .object({ entered_at: Instant, ends_at: Instant.nullable(), in_use: z.number().int() })
    .nullable()
    .describe('That there is one in use, and since when; never the secret'),
  secrets: z.array(ClientSecret),
  connections: z.number().int(),
  revision: z.number().int(),
});
export type Client = z.output<typeof Client>;
