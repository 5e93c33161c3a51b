import type { StatisticsHour } from '../../api/statistics.ts';

type Tone = 'success' | 'error' | 'primary' | 'info' | 'warning';
/** One figure of a chart. */
export interface Series {
  key: Exclude<keyof StatisticsHour, 'at'>;
  label: string;
  tone: Tone;
}

export const RENEWALS: readonly Series[] = [
  { key: 'renewed', label: 'renewed', tone: 'success' },
  { key: 'failed', label: 'failed', tone: 'error' },
];
export const USES: readonly Series[] = [
  { key: 'tokens', label: 'tokens issued', tone: 'primary' },
  { key: 'relayed', label: 'calls relayed', tone: 'info' },
  { key: 'rejected', label: 'rejected', tone: 'error' },
];

export const totalOf = (hours: readonly StatisticsHour[], { key }: Series): number => hours.reduce((sum, hour) => sum + hour[key], 0);

/** Seconds and stacked heights, as the chart wants them: the first series stands on all that follow. */
export function stacked(hours: readonly StatisticsHour[], series: readonly Series[]): { x: number[]; heights: number[][] } {
  const heights = series.map((_, at) => hours.map((hour) => series.slice(at).reduce((sum, { key }) => sum + hour[key], 0)));
  return { x: hours.map((hour) => Date.parse(hour.at) / 1000), heights };
}

/** The chart in one sentence, for whoever does not see it. */
export const chartInWords = (title: string, hours: readonly StatisticsHour[], series: readonly Series[]): string =>
  `${title} in the last ${hours.length} hours: ${series.map((one) => `${totalOf(hours, one)} ${one.label}`).join(', ')}.`;
