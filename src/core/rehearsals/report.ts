import { z } from 'zod';
import { counted } from '../counted.ts';
import { NOTICE_SEVERITIES } from '../notices/notice.ts';
import { SCENARIO_WORDS, SCENARIOS } from './scenarios.ts';

/** What came of a rehearsal. Instants are epoch ms of the rehearsed time. */
const Span = z.object({ from: z.number(), to: z.number(), says: z.string(), count: z.number().int() });
export type Span = z.output<typeof Span>;
/** Relayed calls of an API, one at each look; null where its definition names none that only reads. */
const Calls = z.object({ made: z.number().int(), good: z.number().int(), failures: z.array(Span) });
export const RehearsalReport = z.object({
  scenario: z.enum(SCENARIOS),
  /** Whom the scenario hits: a provider, or a client. */
  hits: z.string(),
  from: z.number(),
  to: z.number(),
  tookMs: z.number(),
  acted: z.boolean(),
  played: z.object({ providers: z.array(z.string()), clients: z.number().int(), connections: z.number().int(), people: z.number().int() }),
  leftOut: z.array(z.object({ what: z.string(), why: z.string() })),
  events: z.array(z.object({ at: z.number(), says: z.string() })),
  callers: z.array(
    z.object({ caller: z.string(), connection: z.string(), asked: z.number().int(), good: z.number().int(), failures: z.array(Span), calls: Calls.nullable() }),
  ),
  connections: z.array(z.object({ connection: z.string(), person: z.boolean(), states: z.array(Span) })),
  jobs: z.array(
    z.object({ job: z.string(), runs: z.number().int(), complete: z.number().int(), problems: z.array(z.object({ at: z.number(), says: z.string() })) }),
  ),
  notices: z.array(
    z.object({
      severity: z.enum(NOTICE_SEVERITIES),
      title: z.string(),
      remedy: z.string(),
      openedAt: z.number(),
      closedAt: z.number().nullable(),
      sent: z.array(z.object({ channel: z.string(), at: z.number(), event: z.string() })),
    }),
  ),
  /** What was forecast at the start for the rehearsed time, and what came of it; empty but for the 90 days. */
  forecast: z.array(
    z.object({ key: z.string(), what: z.string(), at: z.number(), hit: z.array(z.string()), outcome: z.enum(['happened', 'prevented', 'not_seen']) }),
  ),
  /** Connections that stopped working though nothing had been forecast for them; empty but for the 90 days. */
  unforeseen: z.array(z.string()),
});
export type RehearsalReport = z.output<typeof RehearsalReport>;

const lengthOf = (ms: number): string => {
  const minutes = Math.round(ms / 60_000);
  return minutes < 120 ? counted(minutes, 'minute') : minutes < 2_880 ? counted(Math.round(minutes / 60), 'hour') : counted(Math.round(minutes / 1_440), 'day');
};

/** The outcome in a few sentences: what callers, jobs and people would have seen. */
export function summaryOf(report: RehearsalReport): string[] {
  const failed = report.callers.reduce((sum, one) => sum + one.asked - one.good, 0);
  const asked = report.callers.reduce((sum, one) => sum + one.asked, 0);
  const problems = report.jobs.reduce((sum, one) => sum + one.problems.length, 0);
  const runs = report.jobs.reduce((sum, one) => sum + one.runs, 0);
  const down = report.connections.filter((one) => one.states.at(-1)?.says.startsWith('action needed'));
  const sent = report.notices.reduce((sum, one) => sum + one.sent.length, 0);
  return [
    report.callers.length === 0
      ? 'No caller may use a rehearsed connection.'
      : failed === 0
        ? `Callers got all ${counted(asked, 'token')} they requested.`
        : `Callers got ${asked - failed} of ${counted(asked, 'token')} they requested; ${failed} were refused.`,
    ...callsLine(report),
    ...(report.jobs.length === 0
      ? []
      : [
          problems === 0
            ? `All ${counted(runs, 'run')} of jobs were good.`
            : `${problems} of ${counted(runs, 'run')} failed or ${problems === 1 ? 'was' : 'were'} not complete.`,
        ]),
    `${counted(report.notices.length, 'notice')} ${report.notices.length === 1 ? 'was' : 'were'} opened; ${counted(sent, 'message')} would have been sent.`,
    down.length === 0 ? 'At the end every connection worked.' : `At the end ${counted(down.length, 'connection')} needed action.`,
    ...(report.scenario === 'ninety_days' ? [forecastLine(report)] : []),
  ];
}

function callsLine({ callers }: RehearsalReport): string[] {
  const made = callers.reduce((sum, one) => sum + (one.calls?.made ?? 0), 0);
  const failed = made - callers.reduce((sum, one) => sum + (one.calls?.good ?? 0), 0);
  if (made === 0) return [];
  return [failed === 0 ? `All ${counted(made, 'API call')} succeeded.` : `${failed} of ${counted(made, 'API call')} failed.`];
}

const forecastLine = ({ forecast, unforeseen, acted }: RehearsalReport): string => {
  const happened = forecast.filter((one) => one.outcome === 'happened').length;
  const prevented = forecast.filter((one) => one.outcome === 'prevented').length;
  const counts = acted ? `${prevented} of ${forecast.length} were prevented by acting in time` : `${happened} of ${forecast.length} happened`;
  return `Forecast at the start: ${counted(forecast.length, 'date')}, of which ${counts}. ${unforeseen.length === 0 ? 'Nothing else stopped.' : `Not forecast: ${unforeseen.join(', ')}.`}`;
};

const instant = (at: number): string => `${new Date(at).toISOString().slice(0, 16).replace('T', ' ')} UTC`;
const cell = (text: string): string => text.replace(/\s+/g, ' ').replaceAll('|', '\\|');
const table = (heads: string[], rows: string[][]): string[] =>
  rows.length === 0 ? [] : [`| ${heads.join(' | ')} |`, `|${heads.map(() => '---').join('|')}|`, ...rows.map((row) => `| ${row.map(cell).join(' | ')} |`), ''];
const section = (title: string, lines: string[]): string[] => (lines.length === 0 ? [] : [`## ${title}`, '', ...lines]);
const spans = (all: readonly Span[]): string => all.map((one) => `${one.says} (${instant(one.from)}, ${lengthOf(one.to - one.from)})`).join('; ');

/** The report as Markdown, to read and to attach. */
export function reportDocument(report: RehearsalReport): string {
  const words = SCENARIO_WORDS[report.scenario];
  const { played } = report;
  return [
    `# Rehearsal: ${words.title}`,
    '',
    `${words.plays}${report.hits === '' ? '' : ` Hit: ${report.hits}.`}`,
    '',
    ...summaryOf(report).map((line) => `- ${line}`),
    '',
    `Rehearsed: ${instant(report.from)} to ${instant(report.to)}, in ${Math.round(report.tookMs / 1000)} s, on simulated providers: ${played.providers.join(', ')}; ${counted(played.clients, 'client')}, ${counted(played.connections, 'connection')}, ${counted(played.people, 'person', 'people')}.`,
    '',
    ...section(
      'What happened',
      table(
        ['When', 'What'],
        report.events.map((one) => [instant(one.at), one.says]),
      ),
    ),
    ...section(
      'What callers saw',
      table(
        ['Caller', 'Connection', 'Tokens', 'Tokens refused', 'API calls', 'Calls failed'],
        report.callers.map((one) => [
          one.caller,
          one.connection,
          `${one.good} of ${one.asked}`,
          spans(one.failures) || 'none',
          one.calls === null ? 'none made' : `${one.calls.good} of ${one.calls.made}`,
          one.calls === null ? '' : spans(one.calls.failures) || 'none',
        ]),
      ),
    ),
    ...section('Jobs', table(['Job', 'Runs', 'Complete', 'Problems'], report.jobs.map(jobRow))),
    ...section(
      'Connections and people',
      table(
        ['Connection', 'States'],
        report.connections
          .filter((one) => one.states.length > 1 || one.states.some((span) => span.says !== 'working'))
          .map((one) => [one.connection, spans(one.states)]),
      ),
    ),
    ...section(
      'Notices',
      table(
        ['Opened', 'Closed', 'Severity', 'Notice', 'Sent'],
        report.notices.map((one) => [
          instant(one.openedAt),
          one.closedAt === null ? 'open' : instant(one.closedAt),
          one.severity,
          `${one.title}. ${one.remedy}`,
          one.sent.map((sent) => `${sent.channel}: ${sent.event} ${instant(sent.at)}`).join('; ') || 'in the console only',
        ]),
      ),
    ),
    ...section(
      'Forecast',
      table(
        ['Date', 'What', 'Outcome'],
        report.forecast.map((one) => [instant(one.at), one.what, one.outcome.replace('_', ' ')]),
      ),
    ),
    ...section(
      'Not rehearsed',
      table(
        ['What', 'Why'],
        report.leftOut.map((one) => [one.what, one.why]),
      ),
    ),
  ].join('\n');
}

const PROBLEMS_SHOWN = 5;
const jobRow = (one: RehearsalReport['jobs'][number]): string[] => {
  const shown = one.problems.slice(0, PROBLEMS_SHOWN).map((problem) => `${instant(problem.at)}: ${problem.says}`);
  const rest = one.problems.length - shown.length;
  return [one.job, String(one.runs), String(one.complete), [...shown, ...(rest > 0 ? [`${rest} more`] : [])].join('; ') || 'none'];
};

/** Joins what was seen one look after the other to spans: the same in a row is one. */
export function addLook(all: Span[], at: number, says: string): void {
  const last = all.at(-1);
  if (last && last.says === says && last.to >= last.from) {
    last.to = at;
    last.count += 1;
    return;
  }
  if (last) last.to = at;
  all.push({ from: at, to: at, says, count: 1 });
}
