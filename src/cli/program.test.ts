import type { CommandUnknownOpts } from '@commander-js/extra-typings';
import { parse } from 'shell-quote';
import { expect, test } from 'vitest';
import { program } from './program.ts';

const leaves = (command: CommandUnknownOpts): CommandUnknownOpts[] => (command.commands.length === 0 ? [command] : command.commands.flatMap(leaves));
const nameOf = (command: CommandUnknownOpts): string => (command.parent ? `${nameOf(command.parent)} ${command.name()}`.trim() : '');
const helpOf = (command: CommandUnknownOpts): string => {
  let said = '';
  command.configureOutput({ writeOut: (part) => (said += part) }).outputHelp();
  return said;
};
const NAMES = leaves(program()).map(nameOf);

test('every command of the contract is there', () => {
  expect(NAMES).toEqual(
    expect.arrayContaining([
      'serve',
      'standin',
      'sign-in',
      'status',
      'token',
      'call',
      'activity verify',
      'client secret add',
      'caller key retire',
      'connection open',
      'provider check',
    ]),
  );
});

test.each(NAMES)('rk %s: says what it does and what each option takes, and its example is a good command line', async (name) => {
  const rk = program();
  const command = leaves(rk).find((one) => nameOf(one) === name);
  expect(command?.description()).toMatch(/^[a-z].*[^.]$/);
  for (const option of command?.options ?? []) expect(option.description, option.flags).not.toBe('');
  const [, example = ''] = /Example:\n {2}\$ rk (.*)\n/.exec(helpOf(command as CommandUnknownOpts)) ?? [];
  const ran: string[] = [];
  for (const leaf of leaves(rk)) leaf.action(() => void ran.push(nameOf(leaf)));
  const words = parse(example).map((word) => (typeof word === 'string' ? word : null));
  const end = words.indexOf(null); // a redirection
  await rk.parseAsync((end === -1 ? words : words.slice(0, end)) as string[], { from: 'user' });
  expect(ran).toEqual([name]);
});

test.each(NAMES)('rk %s: its help has none of the words that 0.6 used', (name) => {
  const command = leaves(program()).find((one) => nameOf(one) === name) as CommandUnknownOpts;
  expect(helpOf(command)).not.toMatch(
    /by itself|over there|hand(ed|ing)? out|take[- ]over|notepad|\bsheet\b|the door|\bprove|\babilit|will it live|left out:|begins anew/i,
  );
});
