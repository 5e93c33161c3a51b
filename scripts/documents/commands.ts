import { program } from '../../src/cli/program.ts';
import { leaves } from './manual.ts';

const cell = (text: string): string => text.replaceAll('|', '\\|');

/** docs/CLI.md: every command of `rk` with its options, from the commands themselves. */
export function commandsDocument(): string {
  const rk = program();
  const all = leaves(rk, 'rk');
  const sections = all.map(({ path, command }) => {
    const options = command.options.map((one) => `| \`${cell(one.flags)}\` | ${cell(one.description)} |`);
    const usage = command.usage().replaceAll('[options]', '').trim();
    return [
      `### ${path}`,
      `\`${`${path} ${usage}`.trim()}\``,
      `${command.description()}.`,
      ...(options.length > 0 ? [['| option | description |', '|---|---|', ...options].join('\n')] : []),
    ].join('\n\n');
  });
  const table = all.map(({ path, command }) => `| [${path}](#${path.replaceAll(' ', '-')}) | ${cell(command.description())} |`);
  return `<!-- Made by \`npm run docs\` from src/cli; do not edit by hand. -->
# The command line: rk

Every command takes \`--url\`, \`--output table|json|yaml\` and \`--help\`. Reading commands take \`--watch [seconds]\`.
Exit codes: 0 done, 1 failed, 2 wrong usage, 3 sign in first, 4 not found, 5 conflict, 6 try again later, 7 action needed.

| command | what it does |
|---|---|
${table.join('\n')}

${sections.join('\n\n')}
`;
}
