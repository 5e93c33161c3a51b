import type { Cause } from './notice.ts';

/**
 * Marks what only follows from something that has its own notice: a client is rejected because its secret expired or its approval was
 * withdrawn, a connection because its grant expired. One cause is one notice.
 */
export function withFollowUps(causes: readonly Cause[], now: number): Cause[] {
  const late = new Set(causes.filter((one) => one.kind === 'upcoming' && one.dueAt !== null && one.dueAt <= now).map((one) => one.page));
  const unapproved = new Set(causes.filter((one) => one.kind === 'approval' && one.severity === 'action').map((one) => one.page));
  const follows = (one: Cause): boolean => {
    if (one.kind !== 'connections') return false;
    if (one.key.endsWith(':client_refused')) return late.has(`${one.page}/credentials`) || unapproved.has(one.page);
    return one.key.endsWith(':refused') && one.count === 1 && late.has(one.page);
  };
  return causes.map((one) => (follows(one) ? { ...one, follows: true } : one));
}
