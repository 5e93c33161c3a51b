import type { Problem } from './problem.ts';

const TEXTS = ['type', 'title', 'remedy', 'code'] as const;

/** True for a problem answer of this service (RFC 9457). Without the schema: a browser would load a hundred kilobytes for it. */
export function isProblem(body: unknown): body is Problem {
  if (typeof body !== 'object' || body === null) return false;
  const members = body as Record<string, unknown>;
  return TEXTS.every((name) => typeof members[name] === 'string') && Number.isInteger(members.status);
}
