/** Names of delivered files: a pattern with {job}, {date}, {time} and {run}. Pure. */

/** One position of a name: a character, or one digit; `many`: one or more of it. */
interface Step {
  is: string | 'digit';
  many?: true;
}
const DIGITS = (count: number): Step[] => Array.from({ length: count }, () => ({ is: 'digit' }));
const VALUES: Record<string, Step[]> = {
  date: [...DIGITS(4), { is: '-' }, ...DIGITS(2), { is: '-' }, ...DIGITS(2)],
  time: DIGITS(6),
  run: [{ is: 'digit', many: true }],
};

/** A delivered file's name. @param at epoch ms, shown in UTC */
export const fileNameOf = (pattern: string, { job, run, at }: { job: string; run: number; at: number }): string => {
  const text = new Date(at).toISOString();
  const values = new Map([
    ['job', job],
    ['run', String(run)],
    ['date', text.slice(0, 10)],
    ['time', text.slice(11, 19).replaceAll(':', '')],
  ]);
  return pattern.replace(/\{(\w+)\}/g, (whole, name: string) => values.get(name) ?? whole);
};

/** Names are compared without case: some file systems take two for one. */
function stepsOf(pattern: string, job: string): Step[] {
  const parts = pattern.replaceAll('{job}', job).split(/(\{\w+\})/);
  return parts.flatMap((part) => {
    const value = /^\{\w+\}$/.test(part) ? VALUES[part.slice(1, -1)] : undefined;
    return value ?? [...part.toLowerCase()].map((is): Step => ({ is }));
  });
}
const meets = (one: Step, other: Step): boolean =>
  one.is === other.is || (one.is === 'digit' ? /^\d$/.test(other.is) : other.is === 'digit' && /^\d$/.test(one.is));

/** Whether two jobs can ever deliver to one file: whether any name fits both patterns. Bounded by the product of their lengths. */
export function mayBeOneFile(one: { pattern: string; job: string }, other: { pattern: string; job: string }): boolean {
  const [a, b] = [stepsOf(one.pattern, one.job), stepsOf(other.pattern, other.job)];
  const seen = new Set<number>();
  const waiting: [number, number][] = [[0, 0]];
  for (let next = waiting.pop(); next; next = waiting.pop()) {
    const [i, j] = next;
    const key = i * (b.length + 1) + j;
    if (seen.has(key)) continue;
    seen.add(key);
    const [x, y] = [a[i], b[j]];
    if (!x && !y) return true;
    if (!x || !y || !meets(x, y)) continue;
    waiting.push([i + 1, j + 1]);
    if (x.many) waiting.push([i, j + 1]);
    if (y.many) waiting.push([i + 1, j]);
  }
  return false;
}
