import { relativeTime } from '../api/relative-time.ts';
import { cut, fitWidths } from './fit.ts';
import type { GlobalOptions } from './options.ts';
import { plain } from './plain.ts';
import type { Cell, Part, Shown } from './show.ts';

const COLORS = { good: 'green', warning: 'yellow', bad: 'red', quiet: 'gray' } as const;
type Colors = Pick<typeof import('picocolors'), (typeof COLORS)[keyof typeof COLORS]>;

const NO_BORDERS = Object.fromEntries(
  ['top', 'bottom', 'left', 'mid', 'right'].flatMap((side) => [side, ...['mid', 'left', 'right'].map((end) => `${side}-${end}`)]).map((name) => [name, '']),
);

/** Writes what a command found: as tables and lines for people, as data for programs. */
export async function print(options: Pick<GlobalOptions, 'output'>, shown: Shown): Promise<void> {
  process.stdout.write(await drawn(options, shown, process.stdout.isTTY ? process.stdout.columns : undefined));
}

/** The same as text. @param width the terminal's, to which tables are cut; left out: nothing is cut */
export async function drawn({ output }: Pick<GlobalOptions, 'output'>, { data, parts }: Shown, width?: number): Promise<string> {
  if (output !== 'table' && data === undefined) return '';
  if (output === 'json') return `${JSON.stringify(data, null, 2)}\n`;
  if (output === 'yaml') {
    const { stringify } = await import('yaml');
    return stringify(JSON.parse(JSON.stringify(data)), { aliasDuplicateObjects: false });
  }
  const { default: colors } = await import('picocolors');
  const pieces = await Promise.all(parts.map((part) => drawnPart(part, colors, width)));
  return pieces.filter((piece) => piece !== '').join('\n');
}

/** Widths of the columns of a table that is cut to a terminal; undefined: nothing is cut. */
function columnWidths(rows: readonly string[][], room: number | undefined): number[] | undefined {
  if (room === undefined) return undefined;
  const widest = (at: number) => Math.max(0, ...rows.flatMap((row) => (row[at] ?? '').split('\n').map((line) => line.length)));
  return fitWidths(
    (rows[0] ?? []).map((_, at) => widest(at)),
    room,
  );
}

async function drawnPart(part: Part, colors: Colors, width: number | undefined): Promise<string> {
  const toned = (one: Cell, text: string): string => (typeof one === 'string' ? text : colors[COLORS[one.tone]](text));
  const words = (one: Cell): string => plain(typeof one === 'string' ? one : one.text);
  const cell = (one: Cell): string => toned(one, words(one));
  if (part.kind === 'text') return `${plain(part.text)}\n`;
  if (part.kind === 'fields') {
    const longest = Math.max(0, ...part.fields.map(([name]) => name.length));
    return part.fields.map(([name, value]) => `${name.padEnd(longest)}  ${cell(value).replaceAll('\n', `\n${' '.repeat(longest + 2)}`)}\n`).join('');
  }
  if (part.rows.length === 0) return part.empty === '' ? '' : `${part.empty}\n`;
  const { default: Table } = await import('cli-table3');
  const drawing = new Table({
    head: part.head,
    chars: { ...NO_BORDERS, middle: '  ' },
    style: { 'padding-left': 0, 'padding-right': 0, head: [], border: [], compact: true },
  });
  const widths = columnWidths([part.head, ...part.rows.map((row) => row.map(words))], width);
  const within = (text: string, at: number) => {
    const most = widths?.[at];
    return most === undefined
      ? text
      : text
          .split('\n')
          .map((line) => cut(line, most))
          .join('\n');
  };
  for (const row of part.rows) drawing.push(row.map((one, at) => toned(one, within(words(one), at))));
  const lines = drawing.toString().split('\n');
  return `${lines.map((line) => line.trimEnd()).join('\n')}\n`;
}

/** "in 40 s", "3 h ago"; a dash for nothing. */
export const relative = (at: string | null, now = Date.now()): string => (at === null ? '\u2013' : relativeTime(Date.parse(at), now));
