import type { Diagnosis } from '../../core/diagnosis/diagnosis.ts';
import type { Row } from '../store/tables.ts';

/** What a consent remembers beside its columns. */
export interface ConsentFacts {
  /** What it may cost, as it was said when it was opened. */
  warnings?: string[];
  /** Sent with the authorization request, and looked for in the ID token. */
  nonce?: string;
  /** Another than the client's registered one: a loopback redirect with a port of its own. */
  redirectUri?: string;
  /** When the browser was sent away, epoch ms. */
  startedAt?: number;
  /** The client to which the connection moves, by name. */
  movesTo?: string;
  prepares?: boolean;
  /** What was pasted held spaces or line breaks. */
  spaced?: boolean;
  placeholders?: Record<string, string>;
  device?: { userCode: string; page: string; pageWithCode: string | null; intervalMs: number; polls: number };
  pageDiagnosis?: Diagnosis;
}
export const factsOf = (consent: Pick<Row<'consents'>, 'facts'>): ConsentFacts => (consent.facts ?? {}) as ConsentFacts;
