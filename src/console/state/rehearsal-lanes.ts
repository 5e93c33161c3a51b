import type { RehearsalReport } from '../../api/rehearsals.ts';

type LaneTone = 'good' | 'warn' | 'bad';
interface RehearsalBar {
  /** Percent of the width. */
  from: number;
  width: number;
  tone: LaneTone;
  says: string;
}
export interface RehearsalLane {
  label: string;
  /** What the lane shows: states of a connection, tokens or calls of a caller. */
  of: string;
  bars: RehearsalBar[];
}
type Span = RehearsalReport['connections'][number]['states'][number];

const LEAST_WIDTH = 0.4;
const toneOf = (says: string): LaneTone => (/^(working|issued|ok)/.test(says) ? 'good' : says.startsWith('degraded') ? 'warn' : 'bad');

/** All of the time; where weeks pass before something happens, only what lies closely around it. */
function shownTime({ from, to, events }: Pick<RehearsalReport, 'from' | 'to' | 'events'>): { from: number; to: number } {
  const [first] = events;
  const aroundMs = first ? to - first.at : 0;
  return first && first.at - from > 3 * aroundMs ? { from: first.at - aroundMs / 2, to } : { from, to };
}

/**
 * One lane for each connection with its states, and one for each caller that was refused: time from left to right. What worked all the
 * time comes last.
 */
export function rehearsalLanes(report: RehearsalReport): RehearsalLane[] {
  const { from, to } = shownTime(report);
  const percent = (at: number): number => Math.min(100, Math.max(0, (100 * (at - from)) / Math.max(1, to - from)));
  const bars = (spans: readonly Span[]): RehearsalBar[] =>
    spans
      .filter((one) => one.to > from)
      .map((one) => ({
        from: percent(one.from),
        width: Math.max(LEAST_WIDTH, percent(one.to) - percent(one.from)),
        tone: toneOf(one.says),
        says: one.says,
      }));
  const connections = report.connections.map((one) => ({ label: one.connection, of: 'connection', bars: bars(one.states) }));
  const callers = report.callers.flatMap((one) => [
    ...(one.failures.length > 0 ? [{ label: `${one.caller} → ${one.connection}`, of: 'tokens', bars: bars(one.failures) }] : []),
    ...(one.calls && one.calls.failures.length > 0 ? [{ label: `${one.caller} → ${one.connection}`, of: 'calls', bars: bars(one.calls.failures) }] : []),
  ]);
  const isCalm = (lane: RehearsalLane): number => Number(lane.bars.every((bar) => bar.tone === 'good'));
  return [...connections, ...callers].sort((a, b) => isCalm(a) - isCalm(b));
}

/** Five instants along the time, as percent with their words: the hour where it is short, else the date. */
export function rehearsalTicks(report: Pick<RehearsalReport, 'from' | 'to' | 'events'>): { at: number; label: string }[] {
  const { from, to } = shownTime(report);
  const isShort = to - from < 3 * 86_400_000;
  const options: Intl.DateTimeFormatOptions = isShort ? { hour: '2-digit', minute: '2-digit' } : { day: 'numeric', month: 'short' };
  return [0, 25, 50, 75, 100].map((at) => ({ at, label: new Date(from + ((to - from) * at) / 100).toLocaleString('en-US', { ...options, hour12: false }) }));
}
