#!/usr/bin/env node
import { Command, CommanderError } from 'commander';
import { call } from './commands/call.ts';
import { caller } from './commands/caller.ts';
import { client } from './commands/client.ts';
import { connection } from './commands/connection.ts';
import { operator } from './commands/operator.ts';
import { provider } from './commands/provider.ts';
import { running } from './commands/running.ts';
import { serving } from './commands/serving.ts';
import { signIn } from './commands/sign-in.ts';
import { using } from './commands/using.ts';
import { EXIT, leave } from './exit.ts';

/** Every command is declared here at once; what it needs is loaded when it runs, so that `rk --help` is quick. */
export function program(): Command {
  const rk = new Command('rk')
    .description('Rusty Kettle: OAuth connections for your integrations, set up once and kept renewed.')
    .option('--url <address>', 'the service (else RUSTY_KETTLE_URL, else where you signed in)')
    .option('--output <form>', 'table for people, json for programs', 'table')
    .addHelpText(
      'after',
      '\nExit codes: 0 done, 1 failed, 2 used wrongly, 3 sign in first, 4 not found, 5 in conflict, 6 try again later, 7 a person is needed.\nAn option that takes several values takes them both ways: --scope a b, and --scope a --scope b.',
    )
    .showHelpAfterError('(rk --help lists the commands)');
  for (const add of [serving, signIn, operator, provider, client, connection, caller, using, call, running]) add(rk);
  return rk;
}

// `rk … | head`: whoever reads has enough; that is no failure.
for (const stream of [process.stdout, process.stderr])
  stream.on('error', (error: NodeJS.ErrnoException) => {
    if (error.code === 'EPIPE') process.exit(process.exitCode ?? EXIT.done);
    throw error;
  });

const rk = program();
for (const command of [rk, ...rk.commands.flatMap((one) => [one, ...one.commands.flatMap((two) => [two, ...two.commands])])]) command.exitOverride();
try {
  await rk.parseAsync();
} catch (error) {
  if (error instanceof CommanderError) process.exitCode = error.exitCode === 0 ? EXIT.done : EXIT.usage;
  else await leave(error);
}
