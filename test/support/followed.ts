import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { rk } from '../../testing/service.ts';

/** The lines of a document's shell blocks, in their order. */
export const commandsIn = (text: string): string[] => [...text.matchAll(/```sh\n([\s\S]+?)```/g)].flatMap((match) => (match[1] ?? '').trim().split('\n'));

/** Runs a line of a document as a shell would: words in quotes, variables before it, `< file` as its input. */
export async function runLine(line: string, { home, input, place = (word) => word }: { home: string; input?: string; place?(word: string): string }) {
  const [command = '', file] = line.split(' < ');
  const words = [...command.matchAll(/'([^']*)'|(\S+)/g)].map((match) => match[1] ?? match[2] ?? '');
  const at = words.indexOf('rk');
  const environment = Object.fromEntries(words.slice(0, at).map((word) => word.split('=', 2) as [string, string]));
  const given = file ? readFileSync(join(home, file.trim()), 'utf8') : input;
  return rk(words.slice(at + 1).map(place), { home, environment, ...(given === undefined ? {} : { input: given }) });
}
