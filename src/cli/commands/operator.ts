import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { EXIT, Outcome } from '../exit.ts';
import { noun, operation, task, verb } from '../row.ts';
import { line } from '../show.ts';

export const operator = () =>
  noun('operator', 'people who sign in', [
    task(
      verb('first', 'create the first operator, on the machine on which the service runs', 'rk operator first --name marit')
        .requiredOption('--name <operator>', 'a name to sign in with')
        .option('--link <file>', 'the file with the one-time link, if the service keeps its data elsewhere'),
      async ({ options, call }) => {
        const { defaultDataFolder } = await import('../../api/data-folder.ts');
        const file = options.link ?? join(process.env.RUSTY_KETTLE_DATA_FOLDER ?? defaultDataFolder(process.env), 'first-operator.link');
        const ticket = readTicket(file);
        const { secret } = await import('../ask.ts');
        await call('addFirstOperator', { body: { ticket, name: options.name, password: await secret('New password (10 characters or more)') } });
        return line(`${options.name} is the first operator. Now: rk sign-in --name ${options.name}`, { operator: options.name });
      },
      { signedIn: false },
    ),
    operation(
      verb('password', 'change your password and sign out your other sessions; in a pipe: current and new password, one per line', 'rk operator password'),
      {
        calls: 'changePassword',
        input: async () => {
          const { secrets } = await import('../ask.ts');
          const [current, password] = await secrets(['Current password', 'New password (10 characters or more)']);
          return { body: { current, password } };
        },
        shows: ({ ended }) => line(`Password changed. ${endedSessions(ended)}`, { ended }),
      },
    ),
    operation(verb('end-sessions', 'sign out your sessions on other machines and in browsers', 'rk operator end-sessions --yes'), {
      calls: 'endOtherSessions',
      asks: () => 'Sign out all your other sessions?',
      shows: ({ ended }) => line(endedSessions(ended), { ended }),
    }),
  ]);

const endedSessions = (ended: number): string => (ended === 0 ? 'No other sessions.' : `${ended} other ${ended === 1 ? 'session' : 'sessions'} signed out.`);

/** @throws {Outcome} */
function readTicket(file: string): string {
  try {
    return readFileSync(file, 'utf8').trim().split('/').at(-1) ?? '';
  } catch {
    throw new Outcome(
      EXIT.notFound,
      `No one-time link found at ${file}.\nWhat to do: if an operator exists already, use \`rk sign-in\`; else start the service, or name the file with --link.`,
    );
  }
}
