import type { Command } from 'commander';
import { anonymous, globals, readDevice, removeSignIn, serviceUrl, signedIn, writeDevice, writeSignIn } from '../connect.ts';
import { UsageError } from '../exit.ts';
import { printJson, say } from '../print.ts';

export function signIn(rk: Command): void {
  rk.command('sign-in')
    .description('sign in as an operator; the password is asked for, or read from standard input')
    .option('--name <operator>', 'who you are')
    .action(async (options: { name?: string }, command: Command) => {
      const all = globals(command);
      const { secret } = await import('../ask.ts');
      const name = options.name ?? (await askName());
      const call = await anonymous(all);
      const session = await call('signIn', { body: { name, password: await secret('Password'), keeps: 'token', device: readDevice(serviceUrl(all), name) } });
      if (session.device) writeDevice(serviceUrl(all), session.operator, session.device);
      writeSignIn({ url: serviceUrl(all), token: session.token ?? '', operator: session.operator });
      if (all.output === 'json') printJson({ operator: session.operator, ends_at: session.ends_at });
      say(all, `Signed in at ${serviceUrl(all)} as ${session.operator}, until ${session.ends_at}.`);
    });
  rk.command('sign-out')
    .description('end the session and forget it here')
    .action(async (_options: object, command: Command) => {
      const all = globals(command);
      await (await signedIn(all))('signOut');
      removeSignIn();
      say(all, 'Signed out.');
    });
}

async function askName(): Promise<string> {
  if (!process.stdin.isTTY) throw new UsageError('Say who you are with --name.');
  const { input } = await import('@inquirer/prompts');
  return input({ message: 'Operator name:' });
}
