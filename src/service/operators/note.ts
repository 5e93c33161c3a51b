import type { OperatorParts } from './parts.ts';

/** Writes into the activity log what an operator did to an account. */
export type Note = (operator: { name: string }, kind: string, says: string, data?: Record<string, unknown>) => void;

export const noteBy =
  (s: Pick<OperatorParts, 'history'>): Note =>
  (operator, kind, says, data) =>
    s.history.add({ actor: operator.name, kind, subject: `operator:${operator.name}`, says, ...(data ? { data } : {}) });
