import type { ApiClient } from '../../api/client.ts';
import type { AnswerOf } from '../../api/operations.ts';
import { readDevice, removeSignIn, serviceUrl, writeDevice, writeSignIn } from '../connect.ts';
import { UsageError } from '../exit.ts';
import { operation, task, verb } from '../row.ts';
import { line } from '../show.ts';

type SignedIn = AnswerOf<'signIn'>;

export const signIn = () =>
  task(
    verb(
      'sign-in',
      'sign in as an operator; the password is prompted, or read from standard input; a code of a second factor comes in the next line',
      'rk sign-in --url http://127.0.0.1:7420 --name marit',
    ).option('--name <operator>', 'your operator name'),
    async ({ options, rk, call }) => {
      const url = serviceUrl(rk);
      const name = options.name ?? (await askName());
      const session = await withSecondStep(call, { name, device: readDevice(url, name) });
      if (session.device) writeDevice(url, session.operator, session.device);
      writeSignIn({ url, token: session.token ?? '', operator: session.operator });
      return line(`Signed in at ${url} as ${session.operator}, until ${session.ends_at}.`, { operator: session.operator, ends_at: session.ends_at });
    },
    { signedIn: false },
  );

async function withSecondStep(call: ApiClient, { name, device }: { name: string; device: string | undefined }): Promise<SignedIn> {
  const { linesOrAsked } = await import('../ask.ts');
  const { ProblemError } = await import('../../api/client.ts');
  const ask = linesOrAsked();
  try {
    return await call('signIn', { body: { name, password: await ask('Password'), keeps: 'token', device } });
  } catch (error) {
    if (!(error instanceof ProblemError) || error.problem.second_factor === undefined) throw error;
    return call('finishSignIn', {
      body: { ticket: error.problem.second_factor.ticket, code: await ask('Code of your authenticator app, or a recovery code'), device },
    });
  }
}

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
