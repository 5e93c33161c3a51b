import { Argument, type CommandUnknownOpts } from '@commander-js/extra-typings';
import { completionFor, SHELLS } from '../completion.ts';
import { verb } from '../row.ts';

export const completion = () => {
  const command = verb(
    'completion',
    'print a script that completes rk\u2019s commands and options in a shell',
    'rk completion bash > ~/.rk-completion',
  ).addArgument(new Argument('<shell>', 'the shell').choices(SHELLS));
  command.action((shell) => void process.stdout.write(completionFor(shell, command.parent as CommandUnknownOpts)));
  return command as unknown as CommandUnknownOpts;
};
