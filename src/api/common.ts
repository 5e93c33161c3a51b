import { z } from 'zod';
import { Diagnosis } from './diagnosis.ts';
import { refersTo } from './references.ts';

/** An instant on the wire: ISO 8601, UTC, milliseconds. */
export const Instant = z.iso.datetime();
export const Id = z.uuid();

const PROVIDER_NAME = /^[a-z][a-z0-9-]{0,40}$/;
const PROVIDER_NAME_WRONG = { error: 'Lower-case letters, digits and hyphens, a letter first.' };
export const ProviderName = refersTo('shared', z.string().regex(PROVIDER_NAME, PROVIDER_NAME_WRONG));
export const ClientName = ProviderName;
/** The client that a connection is put on. */
export const ClientToUse = refersTo('client_to_use', z.string().regex(PROVIDER_NAME, PROVIDER_NAME_WRONG));
const NAME = /^[a-z0-9][a-z0-9._-]{0,62}$/;
const NAME_WRONG = { error: 'Lower-case letters, digits, dots, underscores and hyphens; up to 63.' };
/** Of something new. */
export const NewName = z.string().regex(NAME, NAME_WRONG);
/** A connection, or one person of a shared connection by handle. */
export const ConnectionName = refersTo('connection', z.string().regex(/^[a-z0-9][a-z0-9._-]{0,62}(@[a-z0-9]{16})?$/, NAME_WRONG));
export const CallerName = refersTo('caller', z.string().regex(NAME, NAME_WRONG));
export const JobName = refersTo('job', z.string().regex(NAME, NAME_WRONG));
/** A text in the form of a label; where a request names one, `LabelToGive`, `PermittedLabel` and `LabelFilter` say what for. */
export const Label = z
  .string()
  .regex(/^[a-z0-9][a-z0-9._=-]{0,62}$/, { error: 'A label is lower-case letters, digits, dots, underscores, hyphens and =, such as team=ops; up to 63.' });
export const LabelToGive = refersTo('label', Label.clone());
export const PermittedLabel = refersTo('permitted_label', Label.clone());
export const LabelFilter = refersTo('label_filter', Label.clone());
export const OperatorName = z.string().regex(/^[a-z0-9][a-z0-9._@-]{0,62}$/, { error: 'Lower-case letters, digits and . _ @ -; up to 63.' });

export const HistoryEntry = z.object({
  id: Id,
  at: Instant,
  actor: z.string(),
  kind: z.string(),
  subject: z.string(),
  says: z.string(),
  data: z.record(z.string(), z.unknown()),
  request_id: z.string().nullable().describe('Of the request in whose course it was done; null: the service began it'),
  address: z.string().nullable().describe('From where that request came'),
});
export type HistoryEntry = z.output<typeof HistoryEntry>;

export const Pair = z.strictObject({ name: z.string().min(1).max(200), value: z.string().max(8_000) });

/** The answer of a call to a provider's API, as it is shown to an operator. */
export const CallAnswer = z.object({
  method: z.string(),
  url: z.string(),
  status: z.number().int().nullable().describe('Null when no answer came'),
  reason: z.string().nullable().describe('Why no answer came'),
  content_type: z.string().nullable(),
  headers: z.array(Pair).optional().describe('Of the answer; a token in them is masked. Left out in answers of earlier versions'),
  bytes: z.number().int().optional().describe('How long the body was, as far as it was read'),
  body: z.string().describe('Cut at 64 kB'),
  cut: z.boolean(),
  page: z.string().nullable().optional().describe('For an API with paging: which records these are, and whether more follow'),
  took_ms: z.number(),
  at: Instant,
  diagnosis: Diagnosis.nullable().optional().describe('What it means where it did not work; left out in answers of earlier versions'),
});
export type CallAnswer = z.output<typeof CallAnswer>;

export const RelayedLast = z.object({
  at: Instant,
  status: z.number().int().nullable().describe('Null: no answer came'),
  method: z.string(),
  path: z.string().describe('Without its query'),
  cause: z.string().nullable(),
  says: z.string().nullable().describe('The verdict; null: success'),
  remedy: z.string().nullable(),
});
/** The relayed calls of the last day. */
export const RelayedCalls = z.object({
  by_class: z.record(z.string(), z.number().int()).describe('Answers by class of status, such as 2xx; `none`: no answer came'),
  last: RelayedLast.nullable(),
  last_failed: RelayedLast.nullable(),
});

/** By Standard Webhooks `whsec_` stands before base64; any other text is the key as it is. */
export const SigningSecret = z
  .string()
  .min(24)
  .max(500)
  .refine((text) => !text.startsWith('whsec_') || /^whsec_(?:[A-Za-z0-9+/]{4}){5,}(?:[A-Za-z0-9+/]{2}==|[A-Za-z0-9+/]{3}=)?$/.test(text), {
    error: 'After whsec_ comes base64 of at least 16 bytes, with its padding. Copy the whole secret, or use another text of 24 characters or more.',
  });
