import { relativeTime } from '../api/relative-time.ts';
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
  process.stdout.write(await drawn(options, shown));
}

/** The same as text. */
export async function drawn({ output }: Pick<GlobalOptions, 'output'>, { data, parts }: Shown): Promise<string> {
  if (output !== 'table' && data === undefined) return '';
  if (output === 'json') return `${JSON.stringify(data, null, 2)}\n`;
  if (output === 'yaml') {
    const { stringify } = await import('yaml');
    return stringify(JSON.parse(JSON.stringify(data)), { aliasDuplicateObjects: false });
  }
  const { default: colors } = await import('picocolors');
  const pieces = await Promise.all(parts.map((part) => drawnPart(part, colors)));
  return pieces.filter((piece) => piece !== '').join('\n');
}

async function drawnPart(part: Part, colors: Colors): Promise<string> {
  const cell = (one: Cell): string => (typeof one === 'string' ? plain(one) : colors[COLORS[one.tone]](plain(one.text)));
  if (part.kind === 'text') return `${plain(part.text)}\n`;
  if (part.kind === 'fields') {
    const width = Math.max(0, ...part.fields.map(([name]) => name.length));
    return part.fields.map(([name, value]) => `${name.padEnd(width)}  ${cell(value).replaceAll('\n', `\n${' '.repeat(width + 2)}`)}\n`).join('');
  }
  if (part.rows.length === 0) return part.empty === '' ? '' : `${part.empty}\n`;
  const { default: Table } = await import('cli-table3');
  const drawing = new Table({
    head: part.head,
    chars: { ...NO_BORDERS, middle: '  ' },
    style: { 'padding-left': 0, 'padding-right': 0, head: [], border: [], compact: true },
  });
  for (const row of part.rows) drawing.push(row.map(cell));
  const lines = drawing.toString().split('\n');
  return `${lines.map((line) => line.trimEnd()).join('\n')}\n`;
}

/** "in 40 s", "3 h ago"; a dash for nothing. */
export const relative = (at: string | null, now = Date.now()): string => (at === null ? '\u2013' : relativeTime(Date.parse(at), now));
