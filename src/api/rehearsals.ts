import { z } from 'zod';
import { ChannelRule } from '../core/notices/channel.ts';
import { GRANT_KINDS } from '../core/oauth/grant-kinds.ts';
import { CLIENT_AUTHENTICATION_METHODS, SECRET_KINDS } from '../core/oauth/methods.ts';
import { CLIENT_TYPES, ENVIRONMENTS, REACHES } from '../core/provider/kinds.ts';
import { RehearsalReport } from '../core/rehearsals/report.ts';
import { SCENARIOS } from '../core/rehearsals/scenarios.ts';
import { POLICIES } from '../core/renewal/plan.ts';
import { Id, Instant, ProviderName } from './common.ts';
import { JobSettings } from './jobs.ts';

export type { RehearsalReport } from '../core/rehearsals/report.ts';
export { SCENARIO_WORDS } from '../core/rehearsals/scenarios.ts';

export const StartRehearsal = z.strictObject({
  scenario: z.enum(SCENARIOS),
  providers: z.array(ProviderName).max(100).default([]).describe('Rehearsed ones; empty: all with clients'),
  hits: ProviderName.nullable().default(null).describe('The provider where it goes wrong; null: the one with most rehearsed connections'),
  act: z.boolean().default(false).describe('Whether someone acts in time on each entry of Upcoming. For ninety_days'),
});
export const REHEARSAL_STATES = ['running', 'done', 'failed', 'canceled'] as const;
export const Rehearsal = z.object({
  id: Id,
  scenario: z.enum(SCENARIOS),
  title: z.string(),
  providers: z.array(z.string()),
  act: z.boolean(),
  state: z.enum(REHEARSAL_STATES),
  started_by: z.string(),
  started_at: Instant,
  ended_at: Instant.nullable(),
  percent: z.number().int().min(0).max(100).describe('How far it is'),
  doing: z.string().describe('What it does now; after a failure: why it failed'),
  summary: z.array(z.string()).describe('The outcome in a few sentences; empty while it runs'),
});
export type Rehearsal = z.output<typeof Rehearsal>;
export const RehearsalShown = Rehearsal.extend({
  report: RehearsalReport.nullable(),
  document: z.string().nullable().describe('The report as Markdown, to read and to attach'),
});
export type RehearsalShown = z.output<typeof RehearsalShown>;

/**
 * What is rehearsed: the installation's own definitions and settings, without any secret, token, account or name of a person. It goes
 * from the service to the program that plays it.
 */
export const RehearsalPlan = z.object({
  scenario: z.enum(SCENARIOS),
  hits: z.string(),
  act: z.boolean(),
  providers: z.array(z.object({ name: z.string(), document: z.string() })),
  clients: z.array(
    z.object({
      provider: z.string(),
      name: z.string(),
      type: z.enum(CLIENT_TYPES),
      environment: z.enum(ENVIRONMENTS),
      variant: z.string().nullable(),
      placeholders: z.record(z.string(), z.string()),
      method: z.enum(CLIENT_AUTHENTICATION_METHODS).nullable(),
      reach: z.enum(REACHES),
      scopes: z.array(z.string()),
      secrets: z.array(z.object({ kind: z.enum(SECRET_KINDS), endsAt: z.number().nullable() })),
    }),
  ),
  connections: z.array(
    z.object({
      name: z.string(),
      provider: z.string(),
      client: z.string(),
      grantKind: z.enum(GRANT_KINDS),
      scopes: z.array(z.string()),
      placeholders: z.record(z.string(), z.string()),
      operations: z.array(z.string()),
      labels: z.array(z.string()),
      policy: z.enum(POLICIES),
      shared: z.boolean(),
    }),
  ),
  callers: z.array(z.object({ name: z.string(), connections: z.array(z.string()), labels: z.array(z.string()), keyEndsAt: z.number().nullable() })),
  jobs: z.array(z.object({ name: z.string(), connection: z.string(), settings: JobSettings })),
  channels: z.array(z.object({ name: z.string(), kind: z.string(), rule: ChannelRule })),
  leftOut: z.array(z.object({ what: z.string(), why: z.string() })),
});
export type RehearsalPlan = z.output<typeof RehearsalPlan>;

/** What the program that plays a rehearsal writes, one JSON object in each line. */
export const RehearsalLine = z.union([
  z.object({ percent: z.number().int(), doing: z.string() }),
  z.object({ report: RehearsalReport }),
  z.object({ failed: z.object({ says: z.string(), remedy: z.string() }) }),
]);
