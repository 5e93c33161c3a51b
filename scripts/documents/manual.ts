import type { CommandUnknownOpts } from '@commander-js/extra-typings';
import { program } from '../../src/cli/program.ts';

const roff = (text: string): string =>
  text.replaceAll('\\', '\\e').replaceAll('-', '\\-').replace(/^[.']/gm, '\\&$&').replaceAll('\u2019', "'").replaceAll('\u2026', '...');
const exampleOf = (command: CommandUnknownOpts): string => {
  let help = '';
  command.configureOutput({ writeOut: (part) => (help += part) }).outputHelp();
  return /Example:\n {2}\$ (.*)\n/.exec(help)?.[1] ?? '';
};
const usageOf = (command: CommandUnknownOpts): string => command.usage().replaceAll('[options]', '').trim();
const optionsOf = (command: CommandUnknownOpts): string[] => command.options.map((one) => `.TP\n.B ${roff(one.flags)}\n${roff(one.description)}`);

/** Commands that do something, with their whole name, in the order of the help. */
export function leaves(command: CommandUnknownOpts, path: string): { path: string; command: CommandUnknownOpts; group: string }[] {
  if (command.commands.length === 0) return [{ path, command, group: command.helpGroup() }];
  return command.commands.flatMap((one) => leaves(one, `${path} ${one.name()}`).map((leaf) => ({ ...leaf, group: leaf.group || one.helpGroup() })));
}

/** docs/rk.1, the manual page of the command line (man(7)). */
export function manualPage(): string {
  const rk = program();
  const commands = leaves(rk, 'rk').map(({ path, command }) =>
    [
      `.SS ${roff(`${path} ${usageOf(command)}`.trim())}`,
      `${roff(command.description())}.`,
      ...optionsOf(command),
      `.PP\nExample:\n.B ${roff(exampleOf(command))}`,
    ].join('\n'),
  );
  return `.\\" Made by npm run docs from the commands; do not edit by hand.
.TH RK 1
.SH NAME
rk \\- set up OAuth connections once; their tokens are renewed for your integrations
.SH SYNOPSIS
.B rk
.RI [ options ] " command " [ arguments ]
.SH OPTIONS
${optionsOf(rk).join('\n')}
.SH COMMANDS
${commands.join('\n')}
.SH EXIT STATUS
0 done, 1 failed, 2 wrong usage, 3 sign in first, 4 not found, 5 conflict, 6 try again later, 7 action needed.
`;
}
