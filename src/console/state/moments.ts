const UNITS: [seconds: number, unit: string][] = [
  [86_400, 'd'],
  [3_600, 'h'],
  [60, 'min'],
  [1, 's'],
];

/** "in 40 s", "3 h ago". Both in epoch ms. */
export function relative(at: number, now: number): string {
  const seconds = Math.round((at - now) / 1000);
  if (Math.abs(seconds) < 2) return 'just now';
  const [size, unit] = UNITS.find(([one]) => Math.abs(seconds) >= one) ?? [1, 's'];
  const amount = `${Math.round(Math.abs(seconds) / size)} ${unit}`;
  return seconds > 0 ? `in ${amount}` : `${amount} ago`;
}

/** The exact time in the person's own zone, with the zone. */
export const exact = (at: number): string => new Date(at).toLocaleString(undefined, { dateStyle: 'medium', timeStyle: 'long' });

/** "once", "3 times". */
export const times = (count: number): string => (count === 1 ? 'once' : `${count} times`);

/** "1 client", "3 clients". */
export const counted = (count: number, noun: string): string => `${count} ${noun}${count === 1 ? '' : 's'}`;
