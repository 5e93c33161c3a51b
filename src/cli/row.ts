import { Command, type CommandUnknownOpts, type OptionValues } from '@commander-js/extra-typings';
import type { ApiClient, CallInput } from '../api/client.ts';
import type { AnswerOf, OperationName } from '../api/operations.ts';
import type { GlobalOptions } from './options.ts';
import type { Shown } from './show.ts';

/** What a command was given, and what it may use. */
export interface Given<Args extends unknown[], Options extends OptionValues> {
  args: Args;
  options: Options;
  rk: GlobalOptions;
  /** The API, signed in. */
  call: ApiClient;
}

/** The head of a command: its name under its noun, what it does, and one example that works as it stands with the demo's names. */
export const verb = (name: string, summary: string, example: string): Command =>
  new Command(name).description(summary).addHelpText('after', `\nExample:\n  $ ${example}`);

/** The words of a group of commands, and the commands. */
export function noun(name: string, summary: string, commands: CommandUnknownOpts[]): CommandUnknownOpts {
  const group = new Command(name).description(summary);
  for (const command of commands) group.addCommand(command);
  return group;
}

interface OperationRow<Args extends unknown[], Options extends OptionValues, N extends OperationName> {
  calls: N;
  /** What the operation is given; left out where it takes nothing. */
  input?: (given: Given<Args, Options>) => CallInput<N> | Promise<CallInput<N>>;
  /** The question before something is destroyed or ended; `--yes` answers it beforehand. */
  asks?: (given: Given<Args, Options>) => string | Promise<string>;
  shows: (answer: AnswerOf<N>, given: Given<Args, Options>) => Shown;
}

/** A command that is one operation of the API: what it takes, which operation it calls, and how its answer is shown. */
export function operation<Args extends unknown[], Options extends OptionValues, N extends OperationName>(
  takes: Command<Args, Options>,
  row: OperationRow<Args, Options, N>,
): CommandUnknownOpts {
  const { asks } = row;
  if (asks) takes.option('--yes', 'do not ask');
  const isReading = /^(show|list)/.test(row.calls);
  return task(
    takes,
    async (given) => {
      if (asks && !(await agreed(given.options as { yes?: true }, await asks(given)))) return undefined;
      const input = await row.input?.(given);
      const call = given.call as (name: N, input: CallInput<N> | undefined) => Promise<AnswerOf<N>>;
      return row.shows(await call(row.calls, input), given);
    },
    { isReading },
  );
}

/** A command with steps of its own. `signedIn: false`: `call` is then nobody's. `isReading`: it changes nothing, and can be shown again and again. */
export function task<Args extends unknown[], Options extends OptionValues>(
  takes: Command<Args, Options>,
  work: (given: Given<Args, Options>) => Promise<Shown | undefined>,
  { signedIn = true, isReading = false } = {},
): CommandUnknownOpts {
  if (isReading) takes.option('--watch [seconds]', 'show it again every so many seconds (2), until Ctrl-C');
  takes.action(async () => {
    const rk = takes.optsWithGlobals() as unknown as GlobalOptions;
    const connect = await import('./connect.ts');
    const call = await (signedIn ? connect.signedIn(rk) : connect.anonymous(rk));
    const given = { args: takes.processedArgs as unknown as Args, options: takes.opts(), rk, call };
    const { watch } = given.options as { watch?: string | true };
    if (watch !== undefined) return (await import('./watch.ts')).watch(rk, watch, async () => (await work(given)) ?? { parts: [] });
    const { whileWaiting } = await import('./waiting.ts');
    const shown = await whileWaiting(work(given));
    if (!shown) return;
    const { print } = await import('./print.ts');
    await print(rk, shown);
    if (shown.outcome) throw shown.outcome;
  });
  return takes as unknown as CommandUnknownOpts;
}

/** Asks before something is destroyed; `--yes` answers beforehand. */
export const agreed = async (options: { yes?: true }, question: string): Promise<boolean> => (await import('./ask.ts')).confirmed(question, options.yes);
