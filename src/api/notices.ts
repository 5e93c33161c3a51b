import { z } from 'zod';
import { ChannelRule } from '../core/notices/channel.ts';
import { NOTICE_EVENTS, NOTICE_KINDS, NOTICE_SEVERITIES } from '../core/notices/notice.ts';
import { Id, Instant, LabelFilter, NewName, OperatorName, SigningSecret } from './common.ts';
import { maskedAs } from './masking.ts';

export type { NoticeSeverity } from '../core/notices/notice.ts';

export const NoticesQuery = z.object({
  state: z.enum(['open', 'closed']).default('open'),
  severity: z.enum(NOTICE_SEVERITIES).optional(),
  kind: z.enum(NOTICE_KINDS).optional(),
  label: LabelFilter.optional().describe('Only notices about connections with this label'),
  before: Id.optional().describe('Only what was opened before the notice with this ID'),
  limit: z.coerce.number().int().min(1).max(500).default(100),
});
export const Notice = z.object({
  id: Id,
  kind: z.enum(NOTICE_KINDS),
  severity: z.enum(NOTICE_SEVERITIES),
  state: z.enum(['open', 'closed']),
  subject: z.string().describe('What it is about, such as client:berthline/harbour'),
  title: z.string(),
  evidence: z.string(),
  remedy: z.string(),
  page: z.string().describe('Of the console, where it is fixed'),
  command: z.string().describe('Of `rk`'),
  labels: z.array(z.string()),
  connections: z.number().int().describe('How many it concerns'),
  due_at: Instant.nullable().describe('When something stops; null: it has no date'),
  opened_at: Instant,
  closed_at: Instant.nullable(),
  acknowledged_by: z.string().nullable(),
  acknowledged_at: Instant.nullable(),
  assigned_to: z.string().nullable(),
  snoozed_until: Instant.nullable(),
  returns: z.number().int().describe('How often it came back soon after it was closed'),
});
export type Notice = z.output<typeof Notice>;
const NoticeCounts = z.object({ action: z.number().int(), warning: z.number().int(), info: z.number().int() });
export const NoticesListed = z.object({
  items: z.array(Notice),
  more: z.boolean(),
  counts: NoticeCounts.describe('Open ones by severity, without those that are snoozed'),
});

const TOLD_STATES = ['waiting', 'sent', 'failed', 'dropped'] as const;
const Delivery = z.object({
  channel: z.string(),
  notice: Id,
  title: z.string(),
  event: z.enum(NOTICE_EVENTS),
  state: z.enum(TOLD_STATES).describe('`failed`: given up after a day; `dropped`: no longer news when it was due'),
  at: Instant,
  due_at: Instant,
  says: z.string(),
});
export type NoticeDelivery = z.output<typeof Delivery>;
export const NoticeShown = Notice.extend({ deliveries: z.array(Delivery) });
export type NoticeShown = z.output<typeof NoticeShown>;

export const AssignNotice = z.strictObject({ to: OperatorName.nullable().describe('An operator; null: nobody') });
export const SnoozeNotice = z.strictObject({ until: Instant.nullable().describe('No reminder before; null: no longer snoozed') });

const target = {
  mail: z.strictObject({ kind: z.literal('mail'), to: z.array(z.email()).min(1).max(20).describe('Addresses') }),
  webhook: z.strictObject({
    kind: z.literal('webhook'),
    url: z.url({ protocol: /^https?$/ }).max(1_000),
    signing_secret: SigningSecret.optional().describe('Signs each event (Standard Webhooks). It is never shown again'),
  }),
  script: z.strictObject({
    kind: z.literal('script'),
    script: z.string().regex(/^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$/, { error: 'The file name of a program in the folder of programs.' }),
  }),
};
const common = { name: NewName, rule: ChannelRule.prefault({}).optional() };
export const AddChannel = z.discriminatedUnion('kind', [target.mail.extend(common), target.webhook.extend(common), target.script.extend(common)]);
export const ChangeChannel = z.strictObject({
  revision: z.number().int(),
  to: target.mail.shape.to.optional(),
  url: target.webhook.shape.url.optional(),
  signing_secret: target.webhook.shape.signing_secret,
  script: target.script.shape.script.optional(),
  rule: ChannelRule.optional(),
  enabled: z.boolean().optional(),
});
export const Channel = z.object({
  name: z.string(),
  kind: z.enum(['mail', 'webhook', 'script']),
  to: z.array(z.string()),
  url: maskedAs('address', z.string()).nullable(),
  signed: z.boolean(),
  script: z.string().nullable(),
  rule: ChannelRule,
  enabled: z.boolean(),
  revision: z.number().int(),
  created_by: z.string(),
  created_at: Instant,
  failing_since: Instant.nullable(),
  last_at: Instant.nullable().describe('When something was sent, or failed'),
  last_says: z.string(),
});
export type Channel = z.output<typeof Channel>;
export const ChannelShown = Channel.extend({ deliveries: z.array(Delivery) });
export type ChannelShown = z.output<typeof ChannelShown>;
export const Tested = z.object({ done: z.boolean(), says: z.string() });
export const SentAgain = z.object({ sent_again: z.number().int() });
