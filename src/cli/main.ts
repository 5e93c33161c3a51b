#!/usr/bin/env node
import { CommanderError } from '@commander-js/extra-typings';
import { EXIT, leave } from './exit.ts';
import { program } from './program.ts';

// `rk … | head`: whoever reads has enough; that is no failure.
for (const stream of [process.stdout, process.stderr])
  stream.on('error', (error: NodeJS.ErrnoException) => {
    if (error.code === 'EPIPE') process.exit(process.exitCode ?? EXIT.done);
    throw error;
  });

try {
  await program().parseAsync(process.argv.slice(2), { from: 'user' });
} catch (error) {
  if (error instanceof CommanderError) process.exitCode = error.exitCode === 0 ? EXIT.done : EXIT.usage;
  else await leave(error);
}
