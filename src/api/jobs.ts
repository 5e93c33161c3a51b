import { z } from 'zod';
import { Schedule } from '../core/jobs/schedule.ts';
import { Since } from '../core/jobs/since.ts';
import { Layout } from '../core/output/format.ts';
import { FORMATS } from '../core/output/formats.ts';
import { PersonalField } from '../core/output/record.ts';
import { PagingPlan } from '../core/paging/plan.ts';
import { VERDICTS } from '../core/paging/verdict.ts';
import { ConnectionName, Id, Instant, JobName, NewName, SigningSecret } from './common.ts';
import { Diagnosis } from './diagnosis.ts';
import { maskedAs } from './masking.ts';
import { ComposedCall, SavedName } from './trying.ts';

/** What a job does, and what one run of it did. */
export const RUN_STATES = ['running', 'waiting', 'done', 'failed', 'cancelled', 'skipped'] as const;
export const RUN_REASONS = ['schedule', 'operator', 'retry', 'test_call'] as const;

export const RunLimits = z.strictObject({
  pages: z.number().int().min(1).max(1_000_000).default(10_000),
  records: z.number().int().min(1).max(20_000_000).default(2_000_000),
  megabytes: z.number().int().min(1).max(100_000).default(2_000),
  minutes: z.number().int().min(1).max(1_440).default(240).describe('Time spent waiting for a reconnect does not count'),
});

/** A name with {job}, {date}, {time} and {run} filled in. It names a file below the output folder, never above. */
const fileName = z
  .string()
  .max(200)
  .regex(/^[A-Za-z0-9{][A-Za-z0-9._{}-]*(\/[A-Za-z0-9{][A-Za-z0-9._{}-]*){0,4}$/, {
    error: 'Letters, digits, dots, hyphens and {job}, {date}, {time}, {run}; folders with /.',
  });
export const DeliveryTarget = z.discriminatedUnion('kind', [
  z.strictObject({
    kind: z.literal('file'),
    name: fileName.describe('Below RUSTY_KETTLE_OUTPUT_FOLDER; such as {job}.csv or archive/{job}-{date}.csv'),
    format: z.enum(FORMATS).default('csv'),
    gzip: z.boolean().default(false),
  }),
  z.strictObject({
    kind: z.literal('post'),
    url: maskedAs(
      'address',
      z
        .url({ protocol: /^https?$/ })
        .max(2_000)
        .refine((url) => url.startsWith('https:') || /^http:\/\/(127\.0\.0\.1|\[::1\]|([a-z0-9-]+\.)*localhost)(:|\/|$)/i.test(url), {
          error: 'Use https; http is taken for this machine only.',
        }),
    ),
    format: z.enum(FORMATS).default('json'),
  }),
]);
export type DeliveryTarget = z.output<typeof DeliveryTarget>;

/** What is collected: a call, how it is paged, and what becomes of its records. */
const CollectionMembers = {
  call: ComposedCall.optional().describe('The call; leave it out with saved'),
  saved: SavedName.optional().describe('The name of a saved call of the connection'),
  values: maskedAs('values', z.record(z.string().max(40), z.string().max(4_000)))
    .default({})
    .describe('Values for the names in braces'),
  paging: PagingPlan.nullable().default(null).describe('null: as the definition states'),
  range: z
    .strictObject({ days: z.number().int().min(1).max(3_660).describe('Up to now') })
    .nullable()
    .default(null)
    .describe('For slices by date: how far back the list goes'),
  personal: z.array(PersonalField).max(100).default([]).describe('Personal fields: dropped, masked or replaced by a keyed hash before anything is kept'),
  layout: Layout.default({ columns: [], delimiter: ',', bom: false, guard: true }),
  expected_least: z.number().int().min(0).nullable().default(null).describe('Fewer records are incomplete'),
  limits: RunLimits.default({ pages: 10_000, records: 2_000_000, megabytes: 2_000, minutes: 240 }),
};
const oneCall = (one: { call?: unknown; saved?: unknown }) => (one.call === undefined) !== (one.saved === undefined);
const ONE_CALL = { error: 'Name a call or a saved call, one of the two.', path: ['call'] };
export const Collect = z.strictObject(CollectionMembers).refine(oneCall, ONE_CALL);
export type Collect = z.output<typeof Collect>;

const JobMembers = {
  ...CollectionMembers,
  title: z.string().max(120).default(''),
  schedule: Schedule.default({ kind: 'manual' }),
  missed: z.enum(['run_once', 'skip']).default('run_once').describe('What becomes of runs that were due while nothing ran'),
  jitter_seconds: z.number().int().min(0).max(3_600).default(0).describe('Runs begin up to so much later, always the same for one job'),
  since: Since.nullable().default(null).describe('Collect only what is new; null: everything in each run'),
  result: z.enum(['replace', 'append']).default('replace').describe('Whether a run replaces the result or adds to it'),
  full_every: z.number().int().min(2).max(10_000).nullable().default(null).describe('With since: each such run collects everything again'),
  formats: z.array(z.enum(FORMATS)).min(1).max(3).default(['csv']).describe('Written at the end of a run; the others are made when they are fetched'),
  deliver: z.array(DeliveryTarget).max(10).default([]),
  deviates_percent: z.number().int().min(1).max(1_000).nullable().default(50).describe('A run that differs more from the last one is reported'),
  keep_runs: z.number().int().min(1).max(10_000).default(50),
  keep_days: z.number().int().min(1).max(3_650).default(90),
  enabled: z.boolean().default(true).describe('false: the schedule rests; runs by hand work'),
};
export const JobSettings = z.strictObject(JobMembers).refine(oneCall, ONE_CALL);
export type JobSettings = z.output<typeof JobSettings>;
const signingSecret = SigningSecret.optional().describe('With a POST: signs it by Standard Webhooks. Write-only');
export const AddJob = z.strictObject({ ...JobMembers, name: NewName, connection: ConnectionName, signing_secret: signingSecret }).refine(oneCall, ONE_CALL);
export const ChangeJob = z
  .strictObject({
    ...JobMembers,
    revision: z.number().int().min(1).describe('Of the job that you read: a change by someone else since then is a conflict'),
    signing_secret: signingSecret,
  })
  .refine(oneCall, ONE_CALL);
export const PlanJob = z.strictObject({ ...JobMembers, connection: ConnectionName, records: z.number().int().min(0).optional() }).refine(oneCall, ONE_CALL);

const Evidence = z.object({ says: z.string(), side: z.enum(['for', 'against', 'note']) });
export const Completeness = z.object({ verdict: z.enum(VERDICTS), evidence: z.array(Evidence), deviates: z.boolean() });
export type Completeness = z.output<typeof Completeness>;
export const RunProblem = z.object({ code: z.string(), says: z.string(), remedy: z.string(), diagnosis: Diagnosis.nullable() });
export type RunProblem = z.output<typeof RunProblem>;

export const Run = z.object({
  id: Id,
  job: JobName.nullable().describe('null: a collection by hand, from Test call'),
  connection: ConnectionName,
  number: z.number().int(),
  reason: z.enum(RUN_REASONS),
  requested_by: z.string(),
  state: z.enum(RUN_STATES),
  waits: z.object({ says: z.string(), until: Instant }).nullable().describe('Why a run that is not finished does not go on now'),
  started_at: Instant,
  ended_at: Instant.nullable(),
  seconds: z.number(),
  records: z.number().int().describe('Without doubles'),
  doubles: z.number().int(),
  pages: z.number().int(),
  calls: z.number().int(),
  bytes: z.number().int(),
  total: z.number().int().nullable().describe('By the provider'),
  difference: z.number().int().nullable().describe('To the last complete run'),
  full: z.boolean().describe('Everything was asked for, not only what is new'),
  completeness: Completeness.nullable(),
  problem: RunProblem.nullable(),
  deliveries: z.array(
    z.object({ target: z.string(), state: z.enum(['waiting', 'delivered', 'failed']), tries: z.number().int(), says: z.string(), next_at: Instant.nullable() }),
  ),
  columns: z.array(z.string()),
});
export type Run = z.output<typeof Run>;

export const Job = z.object({
  name: JobName,
  connection: ConnectionName,
  provider: z.string(),
  settings: JobSettings,
  schedule_says: z.string(),
  paging_says: z.string(),
  revision: z.number().int(),
  next_run_at: Instant.nullable(),
  last: Run.nullable(),
  latest: z.object({ run: z.number().int(), at: Instant, records: z.number().int() }).nullable().describe('The latest complete result, which is served'),
  data_url: z.string(),
  has_signing_secret: z.boolean(),
  created_by: z.string(),
  created_at: Instant,
});
export type Job = z.output<typeof Job>;

export const JobPlan = z.object({
  next_runs: z.array(Instant).describe('The next five'),
  schedule_says: z.string(),
  calls: z.number().int().nullable().describe('In each run; null: not known yet'),
  runs_a_day: z.number().int(),
  quota: z.array(z.object({ api: z.string(), says: z.string(), cost: z.number().int(), percent: z.number(), a_day: z.boolean() })),
  says: z.string(),
});
export type JobPlan = z.output<typeof JobPlan>;

export const Recognize = z
  .strictObject({
    ...CollectionMembers,
    list_at: z
      .string()
      .max(200)
      .nullable()
      .optional()
      .describe('Which list holds the records, as a JSON pointer, where the response holds several; null: the response itself'),
  })
  .refine(oneCall, ONE_CALL);
export const Recognized = z.object({
  declared: PagingPlan.nullable().describe('How this call is paged, as it was stated before'),
  declared_by: z.enum(['definition', 'saved_call', 'request']).nullable(),
  lists: z.array(z.object({ at: z.string().nullable(), count: z.number().int() })),
  guesses: z.array(z.object({ plan: PagingPlan, says: z.string(), confidence: z.enum(['strong', 'likely', 'weak']), evidence: z.array(z.string()) })),
  sample: z.array(z.unknown()).describe('The first records'),
  columns: z.array(z.string()),
});
export type Recognized = z.output<typeof Recognized>;

export const Preview = z.object({ columns: z.array(z.string()), rows: z.array(z.array(z.string())), records: z.number().int() });
export type Preview = z.output<typeof Preview>;

export const OwnJob = z.object({
  name: JobName,
  title: z.string(),
  connection: ConnectionName,
  schedule_says: z.string(),
  latest: Job.shape.latest,
  urls: z.object({ csv: z.string(), ndjson: z.string(), json: z.string() }),
});
export type OwnJob = z.output<typeof OwnJob>;
