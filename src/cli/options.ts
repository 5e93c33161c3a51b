import { Option } from '@commander-js/extra-typings';
import { UsageError } from './exit.ts';

/** The forms of `--output`: a table for people, the others for programs. */
export const OUTPUTS = ['table', 'json', 'yaml'] as const;

export interface GlobalOptions {
  url?: string;
  output: (typeof OUTPUTS)[number];
}

/** An option that takes one word of a closed list; any other is rejected with the list. */
export const oneOf = <const F extends string, const C extends readonly string[]>(flags: F, text: string, choices: C) =>
  new Option(flags, text).choices(choices);

/** `name=value`, as often as wanted. @throws {UsageError} */
export function pairs(text: string, before: Record<string, string> | undefined): Record<string, string> {
  const at = text.indexOf('=');
  if (at < 1) throw new UsageError(`Write name=value, not ${text}.`);
  return { ...before, [text.slice(0, at)]: text.slice(at + 1) };
}

/** A list, in one value or in several, however it was pasted: separated by white space, commas or semicolons. */
export const listedMore = (text: string, before: string[] | undefined): string[] => [...(before ?? []), ...text.split(/[\s,;]+/).filter(Boolean)];

/** A whole number of an option. @throws {UsageError} */
export const whole = (flag: string) => (text: string) => {
  if (!/^\d{1,9}$/.test(text)) throw new UsageError(`${flag} takes a whole number, not ${text}.`);
  return Number(text);
};

/** A date as people type it, as ISO text. @throws {UsageError} */
export const date = (flag: string) => (text: string) => {
  const at = new Date(text);
  if (Number.isNaN(at.getTime())) throw new UsageError(`${flag} takes a date such as 2027-03-31, not ${text}.`);
  return at.toISOString();
};

/** A client is named PROVIDER/NAME. @throws {UsageError} */
export function clientName(text: string): { provider: string; client: string } {
  const [provider, client, ...more] = text.split('/');
  if (!provider || !client || more.length > 0) throw new UsageError(`A client is named PROVIDER/NAME, not ${text}.`);
  return { provider, client };
}
