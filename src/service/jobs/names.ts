/** The name of a delivered file, with {job}, {date}, {time} and {run} filled in. @param at epoch ms, shown in UTC */
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
