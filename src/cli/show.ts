import type { AnyState, Tone, Word } from '../api/vocabulary.ts';
import { LINE_VERDICTS, STATES } from '../api/vocabulary.ts';
import { EXIT, Outcome } from './exit.ts';

/** A text with the color of its meaning; color only adds to it. */
export interface Toned {
  text: string;
  tone: Tone;
}
export type Cell = string | Toned;

/** What a command shows to people, piece by piece. `print.ts` draws it; nothing else writes to standard output. */
export type Part =
  | { kind: 'fields'; fields: [name: string, value: Cell][] }
  | { kind: 'table'; head: string[]; rows: Cell[][]; empty: string }
  | { kind: 'text'; text: string };

export interface Shown {
  /** What programs get with `--output json` or `yaml`; left out: nothing. */
  data?: unknown;
  parts: readonly Part[];
  /** Where what was found asks for an exit code of its own. */
  outcome?: Outcome;
}

/** Names and values, a line each; empty values are left out. */
export const fields = (all: [name: string, value: Cell | null | undefined][]): Part => ({
  kind: 'fields',
  fields: all.filter((field): field is [string, Cell] => field[1] !== null && field[1] !== undefined && field[1] !== ''),
});

/** A table with a column for each member of `columns`; `empty` is shown in place of no rows, and says what to do next. */
export const table = <T>(items: readonly T[], columns: Record<string, (item: T) => Cell>, empty: string): Part => ({
  kind: 'table',
  head: Object.keys(columns),
  rows: items.map((item) => Object.values(columns).map((cell) => cell(item))),
  empty,
});

export const text = (line: string): Part => ({ kind: 'text', text: line });

/** A list of things. */
export const list = <T>(items: readonly T[], columns: Record<string, (item: T) => Cell>, empty: string): Shown => ({
  data: { items },
  parts: [table(items, columns, empty)],
});

/** One thing. */
export const one = (data: unknown, all: Parameters<typeof fields>[0]): Shown => ({ data, parts: [fields(all)] });

/** A sentence for people, and nothing for programs unless `data` is given. */
export const line = (said: string, data?: unknown): Shown => ({ parts: [text(said)], ...(data === undefined ? {} : { data }) });

/** The same, and it failed: the exit code shows it. */
export const failedWith = (shown: Shown, said: string, code: number = EXIT.failed): Shown => ({ ...shown, outcome: new Outcome(code, said) });

/** A state as mark and word. */
export const state = (of: AnyState): Toned => {
  const { mark, label, tone } = STATES[of];
  return { text: `${mark} ${label}`, tone };
};

/** A word of the vocabulary with its mark and color. */
export const worded = ({ mark, label, tone }: Word): Toned => ({ text: `${mark} ${label}`, tone });

/** The verdict of a line: its mark, with a word where it is not good. */
export function lineMark(verdict: keyof typeof LINE_VERDICTS): string {
  const { mark, label, tone } = LINE_VERDICTS[verdict];
  return tone === 'good' ? mark : `${mark} ${label}`;
}
