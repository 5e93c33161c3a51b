import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Command } from 'commander';
import { anonymous, globals } from '../connect.ts';
import { EXIT, Outcome } from '../exit.ts';
import { printJson, say } from '../print.ts';

export function operator(rk: Command): void {
  const noun = rk.command('operator').description('people who sign in');
  noun
    .command('first')
    .description('make the first operator, on the machine on which the service runs')
    .requiredOption('--name <operator>', 'a name to sign in with')
    .option('--link <file>', 'the file with the one-time link, where the service keeps its data elsewhere')
    .action(async (options: { name: string; link?: string }, command: Command) => {
      const all = globals(command);
      const { defaultDataFolder } = await import('../../api/data-folder.ts');
      const file = options.link ?? join(process.env.RUSTY_KETTLE_DATA_FOLDER ?? defaultDataFolder(process.env), 'first-operator.link');
      const ticket = readTicket(file);
      const { secret } = await import('../ask.ts');
      await (await anonymous(all))('addFirstOperator', {
        body: { ticket, name: options.name, password: await secret('New password (10 characters or more)') },
      });
      if (all.output === 'json') printJson({ operator: options.name });
      say(all, `${options.name} is the first operator. Now: rk sign-in --name ${options.name}`);
    });
}

function readTicket(file: string): string {
  try {
    return readFileSync(file, 'utf8').trim().split('/').at(-1) ?? '';
  } catch {
    throw new Outcome(
      EXIT.notFound,
      `There is no one-time link at ${file}.\nWhat to do: there may be an operator already (then \`rk sign-in\`); else start the service, or name the file with --link.`,
    );
  }
}
