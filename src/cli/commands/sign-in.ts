import { readDevice, removeSignIn, serviceUrl, writeDevice, writeSignIn } from '../connect.ts';
import { UsageError } from '../exit.ts';
import { operation, task, verb } from '../row.ts';
import { line } from '../show.ts';

export const signIn = () =>
  task(
    verb(
      'sign-in',
      'sign in as an operator; the password is prompted, or read from standard input',
      'rk sign-in --url http://127.0.0.1:7420 --name marit',
    ).option('--name <operator>', 'your operator name'),
    async ({ options, rk, call }) => {
      const { secret } = await import('../ask.ts');
      const url = serviceUrl(rk);
      const name = options.name ?? (await askName());
      const session = await call('signIn', { body: { name, password: await secret('Password'), keeps: 'token', device: readDevice(url, name) } });
      if (session.device) writeDevice(url, session.operator, session.device);
      writeSignIn({ url, token: session.token ?? '', operator: session.operator });
      return line(`Signed in at ${url} as ${session.operator}, until ${session.ends_at}.`, { operator: session.operator, ends_at: session.ends_at });
    },
    { signedIn: false },
  );

export const signOut = () =>
  operation(verb('sign-out', 'end the session and delete it here', 'rk sign-out'), {
    calls: 'signOut',
    shows: () => {
      removeSignIn();
      return line('Signed out.');
    },
  });

async function askName(): Promise<string> {
  if (!process.stdin.isTTY) throw new UsageError('Name the operator with --name.');
  const { input } = await import('@inquirer/prompts');
  return input({ message: 'Operator name:' });
}
