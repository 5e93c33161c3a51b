import { type Cause, causeFacts, type Half, type Side, type Verdict } from './causes.ts';

/** Verdict, cause, evidence, whose side, remedy. */
export interface Diagnosis {
  cause: Cause;
  verdict: Verdict;
  half: Half | null;
  title: string;
  /** What was seen, and what is known beside it, in the order of its weight. Never a token, never a secret. */
  evidence: string[];
  side: Side;
  remedy: string;
  /** False: the likeliest of several. */
  certain: boolean;
  /** What else it could be, by title. */
  also: string[];
}

interface Details {
  evidence: (string | null | undefined | false)[];
  certain?: boolean;
  also?: Cause[];
  title?: string;
  remedy?: string;
}

export function diagnosis(cause: Cause, details: Details): Diagnosis {
  const facts = causeFacts(cause);
  return {
    cause,
    verdict: facts.verdict,
    half: facts.half ?? null,
    title: details.title ?? facts.title,
    evidence: details.evidence.filter((one): one is string => typeof one === 'string' && one !== ''),
    side: facts.side,
    remedy: details.remedy ?? facts.remedy,
    certain: details.certain ?? true,
    also: (details.also ?? []).map((other) => causeFacts(other).title),
  };
}
