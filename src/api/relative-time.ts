const UNITS: [seconds: number, unit: string][] = [
  [86_400, 'd'],
  [3_600, 'h'],
  [60, 'min'],
  [1, 's'],
];

/** "in 40 s", "3 h ago"; both in epoch ms. Ours rather than Intl's: its unit words differ between versions of browsers and Node.js. */
export function relativeTime(at: number, now: number): string {
  const seconds = Math.round((at - now) / 1000);
  if (Math.abs(seconds) < 2) return 'just now';
  const [size, unit] = UNITS.find(([one]) => Math.abs(seconds) >= one) ?? [1, 's'];
  const amount = `${Math.round(Math.abs(seconds) / size)} ${unit}`;
  return seconds > 0 ? `in ${amount}` : `${amount} ago`;
}
