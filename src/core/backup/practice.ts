import { z } from 'zod';
import { counted } from '../counted.ts';

/** What was found in a backup that was restored for practice. */
export const PracticeFacts = z.object({
  /** When the backup was made. */
  made_at: z.string(),
  version: z.string(),
  rows: z.number().int(),
  counts: z.record(z.string(), z.number().int()).describe('Objects of each kind'),
  seals: z.object({ opened: z.number().int(), failed: z.array(z.string()) }).describe('Sealed values, and the places of those that do not open'),
  definitions: z.object({ read: z.number().int(), failed: z.array(z.string()) }).describe('Definitions of providers, and those that cannot be read'),
  orphans: z.record(z.string(), z.number().int()).default({}).describe('Rows whose connection, grant, job or run is gone, by table; such rows do no harm'),
  results: z
    .object({ whole: z.number().int(), broken: z.array(z.string()) })
    .nullable()
    .describe('Files of results that jobs collected, and the runs of those with a gap; null: the backup has no results'),
});
export type PracticeFacts = z.output<typeof PracticeFacts>;

/** What is wrong; empty: it is a good backup. */
export function practiceFaults({ counts, seals, definitions, results }: PracticeFacts): string[] {
  const some = (failed: readonly string[], one: string, many: string): string[] =>
    failed.length === 0 ? [] : [`${counted(failed.length, one, many)}: ${failed.slice(0, 5).join(', ')}${failed.length > 5 ? ' and more' : ''}.`];
  return [
    ...((counts.connections ?? 0) === 0 ? ['It holds no connections.'] : []),
    ...some(seals.failed, 'sealed value does not open', 'sealed values do not open'),
    ...some(definitions.failed, 'definition cannot be read', 'definitions cannot be read'),
    ...some(results?.broken ?? [], 'result has a gap', 'results have a gap'),
  ];
}
