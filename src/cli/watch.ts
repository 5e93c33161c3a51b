import { UsageError } from './exit.ts';
import type { GlobalOptions } from './options.ts';
import { drawn } from './print.ts';
import type { Shown } from './show.ts';

const USUAL_SECONDS = 2;
const MOST_SECONDS = 3_600;
const CLEAR = '\u001b[2J\u001b[3J\u001b[H';

/** @throws {UsageError} */
function secondsOf(given: string | true): number {
  const seconds = given === true ? USUAL_SECONDS : Number(given);
  if (!(seconds >= 1 && seconds <= MOST_SECONDS)) throw new UsageError(`--watch takes 1 to ${MOST_SECONDS} seconds, not ${String(given)}.`);
  return seconds;
}

/** Shows something again and again until Ctrl-C: a terminal is cleared before; with json, each reading is one line. */
export async function watch({ output }: Pick<GlobalOptions, 'output'>, given: string | true, read: () => Promise<Shown>): Promise<void> {
  const seconds = secondsOf(given);
  process.once('SIGINT', () => process.exit(0));
  for (;;) {
    const shown = await read();
    const { isTTY, columns } = process.stdout;
    if (output === 'json') process.stdout.write(`${JSON.stringify(shown.data)}\n`);
    else {
      const separator = output === 'yaml' ? '---\n' : '\n';
      const text = await drawn({ output }, shown, isTTY ? columns : undefined);
      process.stdout.write(isTTY ? `${CLEAR}${text}` : `${text}${separator}`);
    }
    await new Promise((resolve) => setTimeout(resolve, seconds * 1000));
  }
}
