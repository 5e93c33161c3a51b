import { z } from 'zod';
import { CONNECTION_STATES } from '../core/health.ts';
import { APPROVALS } from '../core/provider/kinds.ts';
import { Instant } from './common.ts';
import { ConnectionSummary } from './connections.ts';
import { LOG_LEVELS } from './log-levels.ts';

export const Replica = z.object({
  instance: z.string(),
  incarnation: z.number().int(),
  roles: z.array(z.string()),
  started_at: Instant,
  seen_at: Instant,
  alive: z.boolean(),
});
/** Degraded connections, or those where action is needed, for one and the same cause. */
export const CauseGroup = z.object({
  state: z.enum(CONNECTION_STATES),
  cause_key: z.string(),
  provider: z.string(),
  client: z.string(),
  says: z.string(),
  count: z.number().int(),
  remedy: z.string(),
  evidence: z.string().nullable().describe('What the provider said to the client'),
  example: z.string().describe('The first of them by name'),
  has_notice: z.boolean().describe('A notice is open about this cause'),
});
export type CauseGroup = z.output<typeof CauseGroup>;
export const InstallationState = z.object({
  held: z.boolean(),
  why: z.string().nullable(),
  held_at: Instant.nullable(),
  practice: z.boolean().describe('Restored for practice: it issues, renews, sends and delivers nothing'),
  writes_refused: z
    .object({ since: Instant, says: z.string(), waiting: z.number().int().describe('Answers of providers that wait for it, at this replica') })
    .nullable()
    .describe('The database answers and refuses writes: its disk is full, or it is read-only. Null: it takes them'),
});
/** What may be lost where renewals go on although something was lost, or another installation renews too. */
const InstallationRisk = z.object({
  connection: z.string(),
  provider: z.string(),
  renewed_at: Instant.describe('The last renewal that this database knows'),
  says: z.string(),
});
export const InstallationRisks = z.object({ items: z.array(InstallationRisk), more: z.boolean() });
export const AdoptReplica = z.strictObject({ folder: z.string().min(1).max(500).describe('The data folder, on the machine of this service') });
export const AdoptedReplica = z.object({ instance: z.string(), answers_saved: z.number().int(), renewals_freed: z.number().int() });

export const SetLogLevel = z.strictObject({
  level: z.enum(LOG_LEVELS),
  minutes: z.number().int().min(1).max(1_440).default(60).describe('After which the configured level applies again'),
});
export const LogLevelShown = z.object({
  level: z.enum(LOG_LEVELS).describe('Of the replica that answers'),
  usual: z.enum(LOG_LEVELS).describe('RUSTY_KETTLE_LOG_LEVEL'),
  until: Instant.nullable().describe('Null: the configured level applies'),
});

export const Status = z.object({
  at: Instant,
  version: z.string(),
  public_url: z.string(),
  connections: z.object({
    total: z.number().int(),
    working: z.number().int(),
    idle: z.number().int().describe('The token expired and no caller requested another; renewed on request'),
    degraded: z.number().int(),
    action_needed: z.number().int(),
    at_risk: z.number().int().describe('Of the degraded: an answer did not come, and is waited for'),
    other: z.number().int(),
  }),
  installation: InstallationState,
  approvals: z
    .array(z.object({ provider: z.string(), client: z.string(), approval: z.enum(APPROVALS), on: z.string().nullable(), seen_at: Instant.nullable() }))
    .describe('Clients whose approval is awaited or rejected, and those approved within two weeks'),
  decisions: z
    .array(z.object({ connection: z.string(), why: z.enum(['other_account', 'not_verified']), account: z.string().nullable(), since: Instant }))
    .describe('Connections beside whose tokens others wait, until someone decides, at most 50'),
  revocations: z.number().int().describe('Revocations of which providers do not know yet'),
  groups: z.array(CauseGroup).describe('The same by cause, largest first'),
  endpoints: z
    .array(z.object({ origin: z.string(), running: z.number().int(), paused_until: Instant.nullable() }))
    .describe('Token endpoints as this replica sees them'),
  attention: z.array(ConnectionSummary).describe('Action needed or degraded, worst first, at most 50'),
  renewals: z.object({
    last_hour: z.number().int(),
    last_minute: z.number().int(),
    failed_last_hour: z.number().int(),
    due_now: z.number().int(),
    oldest_due_at: Instant.nullable(),
    spilled: z.number().int().describe('Of these, kept in sealed files as well'),
    unsaved: z.number().int().describe('Answers kept in memory because the database cannot take them'),
  }),
  issued: z.object({ last_hour: z.number().int(), relayed_last_hour: z.number().int(), refused_last_hour: z.number().int() }),
  providers: z.number().int(),
  clients: z.number().int(),
  callers: z.number().int(),
  replicas: z.array(Replica),
});
export type Status = z.output<typeof Status>;
