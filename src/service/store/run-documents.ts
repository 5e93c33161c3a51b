import { z } from 'zod';
import { Completeness, DeliveryTarget, RunLimits, RunProblem } from '../../api/jobs.ts';
import { ComposedCall } from '../../api/trying.ts';
import { Since } from '../../core/jobs/since.ts';
import { Layout } from '../../core/output/format.ts';
import { FORMATS } from '../../core/output/formats.ts';
import { PersonalField } from '../../core/output/record.ts';
import { PagingPlan } from '../../core/paging/plan.ts';
import { type Ended, GUARDS } from '../../core/paging/walk.ts';

const Range = z.object({ from: z.number(), to: z.number() });
/** What a run does: everything that it needs of its job, as it was when the run began. */
export const RunPlan = z.object({
  call: ComposedCall,
  paging: PagingPlan,
  range: Range.nullable(),
  layout: Layout,
  formats: z.array(z.enum(FORMATS)),
  personal: z.array(PersonalField),
  limits: RunLimits,
  since: Since.nullable(),
  /** Everything is collected, not only what is new. */
  full: z.boolean(),
  /** Earlier runs whose records come before this one's, oldest first. */
  base: z.array(z.uuid()),
  expectedLeast: z.number().nullable(),
  lastRecords: z.number().nullable(),
  deviationMost: z.number().nullable(),
  deliver: z.array(DeliveryTarget),
});
export type RunPlan = z.output<typeof RunPlan>;

const Ends = z.enum(['no_next', 'empty_page', 'short_page', 'total_reached', 'short_page_at_total', 'one_page', ...GUARDS]) satisfies z.ZodType<Ended>;
/** Where a run stands: written with each page, so that any replica goes on from here. */
export const Checkpoint = z.object({
  phase: z.enum(['collecting', 'writing']),
  walk: z.object({
    position: z.object({ link: z.string().nullable(), value: z.string().nullable() }),
    pages: z.number(),
    records: z.number(),
    bytes: z.number(),
    largest: z.number(),
    mark: z.object({ position: z.string(), content: z.string(), until: z.number() }),
  }),
  /** The slice that is being read, and its first page; null: the list is not cut. */
  slice: z
    .object({
      range: Range,
      firstSequence: z.number(),
      before: z.object({ records: z.number(), kept: z.number(), doubles: z.number(), withoutId: z.number() }),
    })
    .nullable(),
  slicesLeft: z.array(Range),
  slicesDone: z.number(),
  cappedSlices: z.number(),
  ended: Ends.nullable(),
  sequence: z.number(),
  /** Received without doubles, and those of them that are kept: less, where only new ids are wanted. */
  records: z.number(),
  kept: z.number(),
  doubles: z.number(),
  withoutId: z.number(),
  pages: z.number(),
  calls: z.number(),
  bytes: z.number(),
  totals: z.object({ first: z.number(), last: z.number(), least: z.number(), most: z.number() }).nullable(),
  columns: z.array(z.string()),
  highest: z.string().nullable(),
  /** Of the run, epoch ms: before the first call. */
  beganAt: z.number(),
  /** Failures in a row, and time that does not count. */
  tries: z.number(),
  waitedMs: z.number(),
  waitingSince: z.number().nullable(),
});
export type Checkpoint = z.output<typeof Checkpoint>;

/** What a run came to. */
export const RunOutcome = z.object({ completeness: Completeness.nullable(), problem: RunProblem.nullable(), written: z.number().optional() });
