import { z } from 'zod';
import { CONNECTION_STATES, HEALTH_CAUSES, type HealthCause } from '../core/health.ts';
import { PERSON_EVENTS } from '../core/people/event.ts';
import { PersonKey } from '../core/people/person-key.ts';
import { CallerName, Instant, LabelFilter, LabelToGive, NewName, SigningSecret } from './common.ts';
import { maskedAs } from './masking.ts';

const Cause = z.enum(Object.keys(HEALTH_CAUSES) as [HealthCause, ...HealthCause[]]).nullable();

const InviteMembers = {
  person: PersonKey,
  name: z.string().trim().min(1).max(120).optional().describe('The person as they know themselves: whoever gets the link by mistake notices'),
  purpose: z.string().trim().min(1).max(500).describe('Why the application asks, in words for the person'),
  expected_account: z.string().trim().min(1).max(200).optional().describe('The account at the provider that must consent; another one is refused'),
  return_to: z.url().max(1_000).optional().describe('Where the person goes afterwards: one of the redirect URIs of the caller'),
  state: z.string().max(500).optional().describe('Given back with the result, as it came'),
  expires_in_hours: z.number().int().min(1).max(2_160).default(168),
  uses: z.number().int().min(1).max(20).default(1).describe('How many consents may come of it'),
  mail_to: z.email().max(254).optional().describe('Sends the link by mail, and later one when the connection is lost; where a mail server is set'),
  labels: z.array(LabelToGive).max(20).default([]).describe('Of the person: a caller may be permitted those with a label'),
};
export const InviteOwn = z.strictObject(InviteMembers);
export const Invite = z.strictObject({ ...InviteMembers, caller: CallerName.optional().describe('The application for which the person connects') });

export const Invited = z.object({
  id: z.uuid(),
  person: z.string(),
  handle: z.string().describe('Names the person\u2019s row: NAME@CODE'),
  url: z.url().describe('The link for the person. It is shown once'),
  expires_at: Instant,
  mailed: z.boolean().describe('The link is on its way by mail, too'),
});
export type Invited = z.output<typeof Invited>;

const INVITATION_STATES = ['sent', 'opened', 'used', 'expired', 'revoked'] as const;
export const Invitation = z.object({
  id: z.uuid(),
  person: z.string(),
  handle: z.string(),
  name: z.string().nullable(),
  caller: z.string().nullable(),
  purpose: z.string(),
  state: z.enum(INVITATION_STATES),
  uses: z.number().int(),
  uses_most: z.number().int().nullable(),
  opened_at: Instant.nullable(),
  expires_at: Instant,
  created_by: z.string(),
  created_at: Instant,
});
export type Invitation = z.output<typeof Invitation>;
export const InvitationsQuery = z.object({
  limit: z.coerce.number().int().min(1).max(500).default(100),
  before: Instant.optional().describe('Made before this one'),
});

export const Person = z.object({
  person: z.string().describe('The application\u2019s own key'),
  handle: z.string(),
  name: z.string().nullable(),
  state: z.enum(CONNECTION_STATES),
  cause_key: Cause,
  cause: z.string().nullable(),
  remedy: z.string().nullable(),
  account: z.string().nullable(),
  scopes: z.array(z.string()).describe('Granted'),
  missing: z.array(z.string()).describe('Requested and not granted'),
  labels: z.array(z.string()),
  connected_at: Instant.nullable(),
  reconnect_by: Instant.nullable(),
});
export type Person = z.output<typeof Person>;
export const PeopleQuery = z.object({
  search: z.string().trim().max(100).optional().describe('Part of an account, a key, a name or a state'),
  state: z.enum(CONNECTION_STATES).optional(),
  label: LabelFilter.optional(),
  person: PersonKey.optional().describe('This one alone'),
  after: z.string().max(80).optional().describe('Handles after this one: the last of the page before'),
  limit: z.coerce.number().int().min(1).max(500).default(100),
});
const Count = z.object({ state: z.enum(CONNECTION_STATES), cause_key: Cause, count: z.number().int() });
export type PersonCounts = z.output<typeof Count>[];
export const PeopleListed = z.object({ items: z.array(Person), total: z.number().int(), counts: z.array(Count).describe('All people, by state and cause') });
export const OwnPeopleListed = z.object({ items: z.array(Person), total: z.number().int() });

export const AddCampaign = z.strictObject({
  name: NewName,
  purpose: z.string().trim().min(1).max(500).describe('Why people are asked again, in words for them'),
  caller: CallerName.optional().describe('The application for which they connect'),
  times_most: z.number().int().min(1).max(10).default(3).describe('How often one person is asked at most'),
  remind_hours: z.number().int().min(1).max(2_160).default(72).describe('At least so long between two requests'),
});
export const Campaign = z.object({
  name: z.string(),
  purpose: z.string(),
  caller: z.string().nullable(),
  state: z.enum(['running', 'ended']),
  scopes: z.array(z.string()).describe('What everyone is to grant: the scopes of the shared connection when it began'),
  people: z.number().int().describe('All who did not disconnect'),
  have: z.number().int().describe('Who granted all of it, through the client in use'),
  asked: z.number().int().describe('Who was asked at least once'),
  exhausted: z.number().int().describe('Who was asked as often as allowed, and did not consent'),
  times_most: z.number().int(),
  remind_hours: z.number().int(),
  created_by: z.string(),
  created_at: Instant,
  ended_at: Instant.nullable(),
});
export type Campaign = z.output<typeof Campaign>;

export const NamedPerson = z.strictObject({ person: z.string().min(1).max(400).describe('The application\u2019s own key, or a handle') });
export const NamedOwnPerson = z.strictObject({ person: PersonKey });
export const Disconnected = z.object({ says: z.string() });

export const RedeemCode = z.strictObject({ code: z.string().min(1).max(100) });
const PERSON_RESULTS = ['connected', 'partly', 'denied', 'other_account', 'expired', 'failed'] as const;
export const PersonOutcome = z.object({
  person: z.string(),
  handle: z.string(),
  name: z.string().nullable(),
  state: z.string().nullable().describe('As the invitation gave it'),
  result: z.enum(PERSON_RESULTS).describe('partly: connected, with scopes missing'),
  account: z.object({ id: z.string(), label: z.string() }).nullable().describe('As the provider states it'),
  granted: z.array(z.string()),
  missing: z.array(z.string()),
  says: z.string().nullable(),
  own_link: z.url().nullable().describe('For the person alone: what is connected, reconnect, disconnect'),
});
export type PersonOutcome = z.output<typeof PersonOutcome>;

export const EventsQuery = z.object({
  after: z
    .string()
    .regex(/^\d{1,18}$/)
    .optional()
    .describe('The cursor of the answer before; left out: from the beginning of what is kept'),
  limit: z.coerce.number().int().min(1).max(500).default(100),
});
export const OwnEvents = z.object({
  events: z.array(z.record(z.string(), z.unknown())).describe('CloudEvents 1.0, oldest first'),
  cursor: z.string(),
  more: z.boolean(),
});

export const EventReceiver = z.strictObject({
  url: z.url({ protocol: /^https?$/ }).max(1_000),
  signing_secret: SigningSecret.optional().describe('Signs each event by Standard Webhooks. Write-only; left out: the former one stays'),
});
export const PersonEvents = z.object({
  url: maskedAs('address', z.string()).nullable(),
  signed: z.boolean(),
  deliveries: z.array(
    z.object({
      cursor: z.string(),
      kind: z.enum(PERSON_EVENTS),
      person: z.string(),
      at: Instant,
      state: z.enum(['waiting', 'delivered', 'failed']),
      tries: z.number().int(),
      next_at: Instant.nullable(),
      says: z.string(),
    }),
  ),
});
export type PersonEvents = z.output<typeof PersonEvents>;
export const Replay = z.strictObject({
  from: z
    .string()
    .regex(/^\d{1,18}$/)
    .optional()
    .describe('All since this cursor; left out: those that failed'),
});
export const Replayed = z.object({ sent_again: z.number().int() });
