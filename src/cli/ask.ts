import { text } from 'node:stream/consumers';
import { UsageError } from './exit.ts';

/** All of standard input, without the last line break. */
export async function standardInput(): Promise<string> {
  return (await text(process.stdin)).replace(/\r?\n$/, '');
}

/** A secret: from standard input where it is a pipe, else requested without showing it. Never from an argument: those can be seen. */
export async function secret(what: string): Promise<string> {
  if (!process.stdin.isTTY) {
    const piped = await standardInput();
    if (!piped) throw new UsageError(`${what}: nothing came on standard input.`);
    return piped;
  }
  const { password } = await import('@inquirer/prompts');
  return password({ message: `${what}:`, mask: '*' });
}

/** Several secrets, one after another; through a pipe, a line each. */
export async function secrets<const T extends readonly string[]>(whats: T): Promise<{ [K in keyof T]: string }> {
  const given: string[] = [];
  if (process.stdin.isTTY) for (const what of whats) given.push(await secret(what));
  else given.push(...(await standardInput()).split(/\r?\n/));
  if (given.length !== whats.length || given.includes('')) throw new UsageError(`Standard input must have ${whats.length} lines: ${whats.join(', ')}.`);
  return given as { [K in keyof T]: string };
}

/** Asks for one secret after another as they turn out to be needed; through a pipe, a line each. */
export function linesOrAsked(): (what: string) => Promise<string> {
  let piped: string[] | null = null;
  return async (what) => {
    if (process.stdin.isTTY) return secret(what);
    piped ??= (await standardInput()).split(/\r?\n/);
    const next = piped.shift();
    if (!next) throw new UsageError(`${what}: nothing came on standard input.`);
    return next;
  };
}

/** A question that may be left without an answer; not asked where nobody is there to answer. */
export async function answered(question: string): Promise<string | undefined> {
  if (!process.stdin.isTTY) return undefined;
  const { input } = await import('@inquirer/prompts');
  return (await input({ message: question })).trim() || undefined;
}

/** Asks before something is destroyed; `--yes` answers beforehand. */
export async function confirmed(question: string, yes: boolean | undefined): Promise<boolean> {
  if (yes) return true;
  if (!process.stdin.isTTY) throw new UsageError(`${question} Say --yes to do it without being asked.`);
  const { confirm } = await import('@inquirer/prompts');
  return confirm({ message: question, default: false });
}
