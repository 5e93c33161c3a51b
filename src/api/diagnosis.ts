import { z } from 'zod';
import { CAUSES, HALVES, SIDES, VERDICTS, type Verdict } from '../core/diagnosis/causes.ts';

/** What is wrong: the verdict first, then cause, evidence, whose side, remedy. */
export const Diagnosis = z.object({
  cause: z.enum(CAUSES),
  verdict: z.enum(Object.keys(VERDICTS) as [Verdict, ...Verdict[]]),
  half: z.enum(HALVES).nullable().describe('Whose half of the rights is missing'),
  title: z.string(),
  evidence: z.array(z.string()).describe('What was seen, and what is known beside it, masked'),
  side: z.enum(SIDES).describe('Who has to fix it'),
  remedy: z.string(),
  certain: z.boolean().describe('False: the likeliest of several'),
  also: z.array(z.string()).describe('What else it could be'),
});
export type Diagnosis = z.output<typeof Diagnosis>;
