import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import type { OperatorSummary, SessionView } from '../../api/operators.ts';
import { ROLES } from '../../api/roles.ts';
import { OPERATOR_STATE_WORDS, SESSION_KIND_WORDS } from '../../api/vocabulary.ts';
import { EXIT, Outcome, UsageError } from '../exit.ts';
import { listedMore, oneOf } from '../options.ts';
import { relative } from '../print.ts';
import { noun, operation, task, verb } from '../row.ts';
import { line, list, one, type Shown, table } from '../show.ts';

const limitsOf = (each: { labels: readonly string[] }): string => (each.labels.length === 0 ? 'none' : each.labels.join(', '));
export const SESSION_COLUMNS = {
  ID: (each: SessionView) => each.id,
  KIND: (each: SessionView) => SESSION_KIND_WORDS[each.kind],
  NAME: (each: SessionView) => each.name ?? '',
  ROLE: (each: SessionView) => each.role ?? '',
  'LAST USED': (each: SessionView) => (each.last_used_at ? relative(each.last_used_at) : 'never'),
  FROM: (each: SessionView) => each.address ?? '',
  EXPIRES: (each: SessionView) => relative(each.ends_at),
};
const shown = (each: OperatorSummary & { session_list: SessionView[] }): Shown => {
  const head = one(each, [
    ['Operator', each.name],
    ['Role', each.role],
    ['Limited to', limitsOf(each)],
    ['State', OPERATOR_STATE_WORDS[each.state]],
    ['Signs in', each.source === 'identity_provider' ? 'at the identity provider' : 'with a password'],
    ['Second factor', each.second_factor ? 'yes' : 'no'],
    ['Last seen', each.last_seen_at ? relative(each.last_seen_at) : 'never'],
    ['Invited by', each.invited_by],
  ]);
  return { ...head, parts: [...head.parts, table(each.session_list, SESSION_COLUMNS, 'No sessions.')] };
};
const linked = ({ operator, url, ends_at }: { operator: string; url: string; ends_at: string }): Shown =>
  one({ operator, url, ends_at }, [
    ['Operator', operator],
    ['One-time link', url],
    ['Expires', relative(ends_at)],
  ]);

export const operator = () =>
  noun('operator', 'people who sign in, and what they may do', [
    operation(verb('list', 'list operators', 'rk operator list'), {
      calls: 'listOperators',
      shows: ({ items }) =>
        list(
          items,
          {
            NAME: (each) => each.name,
            ROLE: (each) => each.role,
            'LIMITED TO': limitsOf,
            STATE: (each) => OPERATOR_STATE_WORDS[each.state],
            'SECOND FACTOR': (each) => (each.second_factor ? 'yes' : 'no'),
            SESSIONS: (each) => String(each.sessions),
            'LAST SEEN': (each) => (each.last_seen_at ? relative(each.last_seen_at) : 'never'),
          },
          'No operators. Make the first: rk operator first',
        ),
    }),
    operation(verb('show', 'show an operator with sessions', 'rk operator show marit').argument('<name>'), {
      calls: 'showOperator',
      input: ({ args: [name] }) => ({ params: { operator: name } }),
      shows: shown,
    }),
    operation(
      verb('invite', 'invite an operator; give the one-time link to that person', 'rk operator invite oda --role viewer')
        .argument('<name>')
        .addOption(oneOf('--role <role>', 'what the operator may do', ROLES).default('viewer' as const))
        .option('--label <label...>', 'limit the account to connections with one of these labels', listedMore),
      {
        calls: 'inviteOperator',
        input: ({ args: [name], options }) => ({ body: { name, role: options.role, labels: options.label ?? [] } }),
        shows: linked,
      },
    ),
    operation(
      verb('change', 'change role or limits; disable or enable', 'rk operator change oda --role operator')
        .argument('<name>')
        .addOption(oneOf('--role <role>', 'what the operator may do', ROLES))
        .option('--label <label...>', 'limit the account to connections with one of these labels', listedMore)
        .option('--no-limits', 'remove the limits')
        .option('--disable', 'end all sessions and personal tokens; nobody signs in with the account')
        .option('--enable', 'let the operator sign in again')
        .option('--rename <name>', 'give the account another name'),
      {
        calls: 'changeOperator',
        input: ({ args: [name], options: { role, label, limits, disable, enable, rename } }) => {
          if (disable && enable) throw new UsageError('Give --disable or --enable, one of the two.');
          return {
            params: { operator: name },
            body: {
              ...(role ? { role } : {}),
              ...(rename ? { name: rename } : {}),
              ...(label ? { labels: label } : limits ? {} : { labels: [] }),
              ...(disable || enable ? { disabled: disable === true } : {}),
            },
          };
        },
        shows: shown,
      },
    ),
    operation(
      verb('reset', 'make a one-time link with which an operator sets a new password; second factors are removed', 'rk operator reset oda --yes').argument(
        '<name>',
      ),
      {
        calls: 'resetOperator',
        input: ({ args: [name] }) => ({ params: { operator: name } }),
        asks: ({ args: [name] }) => `Make a link that replaces password and second factors of ${name}?`,
        shows: linked,
      },
    ),
    operation(verb('remove', 'remove an operator; sessions and personal tokens end at once', 'rk operator remove oda --yes').argument('<name>'), {
      calls: 'removeOperator',
      input: ({ args: [name] }) => ({ params: { operator: name } }),
      asks: ({ args: [name] }) => `Remove ${name}? The name stays in the activity log and cannot be used again.`,
      shows: (_answer, { args: [name] }) => line(`${name} removed.`),
    }),
    operation(
      verb('end-session', 'end a session or revoke a personal token of an operator', 'rk operator end-session oda 01890000-0000-7000-8000-000000000000 --yes')
        .argument('<name>')
        .argument('<session>'),
      {
        calls: 'endOperatorSession',
        input: ({ args: [name, session] }) => ({ params: { operator: name, session } }),
        asks: ({ args: [name] }) => `End this session of ${name}?`,
        shows: () => line('Session ended.'),
      },
    ),
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
    task(
      verb('join', 'set a password with a one-time link that an administrator gave you', 'rk operator join http://127.0.0.1:7420/#/join/TICKET').argument(
        '<link>',
      ),
      async ({ args: [link], call }) => {
        const ticket = link.split('/').at(-1) ?? '';
        const { operator: name } = await call('showJoin', { body: { ticket } });
        const { secret } = await import('../ask.ts');
        await call('joinOperator', { body: { ticket, password: await secret(`New password for ${name} (10 characters or more)`) } });
        return line(`Password set. Now: rk sign-in --name ${name}`, { operator: name });
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
