import { type AnyState, LINE_VERDICTS, STATES } from '../api/vocabulary.ts';
import type { GlobalOptions } from './options.ts';

/** A text that came from a definition or a provider, without what would move the cursor, color or rename the terminal. */
export const plain = (text: string): string =>
  text.replace(/\p{Cc}(\[(?:31|32|33|39|90)m)?/gu, (found, colour = '') => {
    if (found.startsWith('\n') || found.startsWith('\t')) return found;
    return found.startsWith('\u001b') && colour ? found : colour; // the colors that picocolors puts around states stay
  });

/** Prints rows as a table for people, or the value as JSON for programs. An empty list says what to do next. */
export async function printList<T>(options: GlobalOptions, items: T[], columns: Record<string, (item: T) => string>, empty: string): Promise<void> {
  if (options.output === 'json') return printJson({ items });
  if (items.length === 0) return void process.stdout.write(`${empty}\n`);
  const { default: Table } = await import('cli-table3');
  const none = {
    top: '',
    'top-mid': '',
    'top-left': '',
    'top-right': '',
    bottom: '',
    'bottom-mid': '',
    'bottom-left': '',
    'bottom-right': '',
    left: '',
    'left-mid': '',
    mid: '',
    'mid-mid': '',
    right: '',
    'right-mid': '',
    middle: '  ',
  };
  const table = new Table({ head: Object.keys(columns), chars: none, style: { 'padding-left': 0, 'padding-right': 0, head: [], border: [], compact: true } });
  for (const item of items) table.push(Object.values(columns).map((cell) => plain(cell(item))));
  process.stdout.write(
    `${table
      .toString()
      .split('\n')
      .map((line) => line.trimEnd())
      .join('\n')}\n`,
  );
}

/** Prints one thing as name and value, a line each; what is empty is left out. */
export function printOne(options: GlobalOptions, value: unknown, fields: [string, string | null | undefined][]): void {
  if (options.output === 'json') return printJson(value);
  const shown = fields.filter((field): field is [string, string] => field[1] !== null && field[1] !== undefined && field[1] !== '');
  const width = Math.max(...shown.map(([name]) => name.length));
  for (const [name, text] of shown) process.stdout.write(`${name.padEnd(width)}  ${plain(text).replaceAll('\n', `\n${' '.repeat(width + 2)}`)}\n`);
}

export const printJson = (value: unknown): void => void process.stdout.write(`${JSON.stringify(value, null, 2)}\n`);

/** A line for people; nothing where a program reads. */
export const say = (options: GlobalOptions, text: string): void => void (options.output === 'json' || process.stdout.write(`${plain(text)}\n`));

const UNITS: [number, string][] = [
  [86_400, 'd'],
  [3_600, 'h'],
  [60, 'min'],
  [1, 's'],
];

/** "in 40 s", "3 h ago"; a dash for nothing. */
export function relative(at: string | null, now = Date.now()): string {
  if (at === null) return '\u2013';
  const seconds = Math.round((Date.parse(at) - now) / 1000);
  if (Math.abs(seconds) < 2) return 'just now';
  const [size, unit] = UNITS.find(([one]) => Math.abs(seconds) >= one) ?? [1, 's'];
  const amount = `${Math.round(Math.abs(seconds) / size)} ${unit}`;
  return seconds >= 0 ? `in ${amount}` : `${amount} ago`;
}

const COLORS = { good: 'green', warning: 'yellow', bad: 'red', quiet: 'gray' } as const;

/** A state as mark and word; color only adds to it. */
export async function state(of: AnyState): Promise<string> {
  const { default: colors } = await import('picocolors');
  const { mark, label, tone } = STATES[of];
  return colors[COLORS[tone]](`${mark} ${label}`);
}

/** The verdict of a line: its mark, with a word where it is not good. */
export function lineMark(verdict: keyof typeof LINE_VERDICTS): string {
  const { mark, label, tone } = LINE_VERDICTS[verdict];
  return tone === 'good' ? mark : `${mark} ${label}`;
}
