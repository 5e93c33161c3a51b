import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Command } from 'commander';
import { anonymous, globals, signedIn } from '../connect.ts';
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
  noun
    .command('password')
    .description('change your password and sign out your other sessions; through a pipe: current and new password, one per line')
    .action(async (_options: object, command: Command) => {
      const all = globals(command);
      const { secrets } = await import('../ask.ts');
      const [current, password] = await secrets(['Current password', 'New password (10 characters or more)']);
      const { ended } = await (await signedIn(all))('changePassword', { body: { current, password } });
      if (all.output === 'json') printJson({ ended });
      say(all, `Password changed. ${endedSessions(ended)}`);
    });
  noun
    .command('end-sessions')
    .description('sign out your sessions on other machines and in browsers')
    .option('--yes', 'without being asked')
    .action(async (options: { yes?: boolean }, command: Command) => {
      const all = globals(command);
      const { confirmed } = await import('../ask.ts');
      if (!(await confirmed('Sign out all your other sessions?', options.yes))) return;
      const { ended } = await (await signedIn(all))('endOtherSessions');
      if (all.output === 'json') printJson({ ended });
      say(all, endedSessions(ended));
    });
}

const endedSessions = (ended: number): string => (ended === 0 ? 'No other sessions.' : `${ended} other ${ended === 1 ? 'session' : 'sessions'} signed out.`);

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
