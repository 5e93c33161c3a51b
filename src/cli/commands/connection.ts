import { CONNECTION_STATES, GRANT_TYPES, POLICIES } from '../../api/choices.ts';
import type { ApiClient, CallInput } from '../../api/client.ts';
import type { ConnectionSummary } from '../../api/connections.ts';
import { POLICY_LABELS } from '../../api/vocabulary.ts';
import { clientName, listedMore, oneOf, pairs } from '../options.ts';
import { relative } from '../print.ts';
import { noun, operation, task, verb } from '../row.ts';
import { fields, line, list, state, text } from '../show.ts';
import { shownReady } from '../views/client.ts';
import { shownConnection } from '../views/connection.ts';
import { callCommands } from './connection-calls.ts';
import { grantCommands } from './connection-grants.ts';
import { openCommand } from './connection-open.ts';

const POLICY_HELP = POLICIES.map((policy) => `${policy}: renewed ${POLICY_LABELS[policy]}`).join('; ');
const named = ({ args: [name] }: { args: [string] }) => ({ params: { connection: name } });
const PAGE = 500;

export const connection = () =>
  noun('connection', 'authorizations for one account each, under names people use', [
    task(
      verb('add', 'add a connection through a client', 'rk connection add sailings --client eelgrass/timetable')
        .argument('<name>')
        .requiredOption('--client <client>', 'PROVIDER/NAME', clientName)
        .option('--scope <scopes...>', 'scopes to request; default: the preset of the definition', listedMore)
        .option('--account <account>', 'the account that is expected to consent')
        .addOption(
          oneOf('--grant-type <type>', 'default: as the client\u2019s type requires; with jwt_bearer, --account names the account to act for', GRANT_TYPES),
        )
        .option('--placeholder <name=value...>', 'a value that the definition requires at the connection', pairs)
        .option('--operation <ids...>', 'API operations it is for; requests the scopes with the least privilege that they need')
        .addOption(oneOf('--policy <policy>', POLICY_HELP, POLICIES).default('always' as const))
        .option('--label <labels...>', 'labels, to permit callers a group of connections')
        .option('--shared', 'one grant for each person, who connect their own accounts by invitation')
        .option('--allow-unlisted-scopes', 'accept scopes that the definition does not list'),
      async ({ args: [name], options, call }) => {
        const { provider } = options.client;
        const scopes = options.scope ?? (await defaultScopes(call, provider, options.operation));
        const body = {
          name,
          shared: options.shared,
          ...options.client,
          scopes,
          policy: options.policy,
          labels: options.label,
          operations: options.operation,
          placeholders: options.placeholder,
          grant_type: options.grantType,
          expected_account: options.account,
          allow_unlisted_scopes: options.allowUnlistedScopes,
        };
        return shownConnection(
          await call('addConnection', { body }),
          options.shared ? `rk invitation add ${name} --person KEY --purpose TEXT` : `rk connection open ${name}`,
        );
      },
    ),
    operation(
      verb('change', 'change what the next consent requests, and when the connection is renewed', 'rk connection change sailings --policy when_used')
        .argument('<name>')
        .option('--scope <scopes...>', 'scopes to request at the next consent', listedMore)
        .option('--account <account>', 'the account that is expected to consent; empty: any')
        .option('--operation <ids...>', 'API operations it is for')
        .addOption(oneOf('--policy <policy>', POLICY_HELP, POLICIES))
        .option('--label <labels...>', 'replaces its labels; empty: none')
        .option('--allow-unlisted-scopes', 'accept scopes that the definition does not list'),
      {
        calls: 'changeConnection',
        input: async (given) => {
          const { options } = given;
          const { revision } = await given.call('showConnection', named(given));
          const body = {
            revision,
            allow_unlisted_scopes: options.allowUnlistedScopes,
            scopes: options.scope,
            operations: options.operation,
            expected_account: options.account,
            policy: options.policy,
            labels: options.label?.filter((one) => one !== ''),
          };
          return { ...named(given), body };
        },
        shows: (c, { args: [name] }) => shownConnection(c, `rk connection open ${name}`),
      },
    ),
    openCommand(),
    ...grantCommands(),
    ...callCommands(),
    operation(verb('check', 'check whether it is ready for a consent', 'rk connection check sailings').argument('<name>'), {
      calls: 'showConnection',
      input: named,
      shows: ({ ready }) => shownReady(ready),
    }),
    task(
      verb('list', 'list connections', 'rk connection list --state working --label reports')
        .option('--search <text>', 'part of a name, account, provider, client, label or state')
        .option('--label <label>', 'only connections with this label')
        .option('--provider <provider>', 'only connections of this provider')
        .option('--client <client>', 'PROVIDER/NAME: only connections of this client', clientName)
        .addOption(oneOf('--state <state>', 'only connections in this state', CONNECTION_STATES)),
      async ({ options: { search, label, state: inState, provider, client }, call }) =>
        list(
          await everyPage(call, { search, label, state: inState, provider, ...client }),
          {
            NAME: (one) => one.name,
            STATE: (one) => state(one.state),
            CLIENT: (one) => `${one.provider}/${one.client}${one.rehearsal ? ' (rehearsal)' : ''}`,
            ACCOUNT: (one) => (one.shared ? 'shared' : (one.account ?? '\u2013')),
            EXPIRES: (one) => relative(one.life?.expires_at ?? null),
            RENEWED: (one) => String(one.renewals),
            WHY: (one) => one.cause ?? '',
          },
          'No connections yet. Add one: rk connection add NAME --client PROVIDER/NAME',
        ),
      { isReading: true },
    ),
    operation(verb('show', 'show a connection', 'rk connection show sailings').argument('<name>'), {
      calls: 'showConnection',
      input: named,
      shows: (c) => shownConnection(c),
    }),
    operation(verb('renew', 'renew it now', 'rk connection renew sailings').argument('<name>'), {
      calls: 'renewConnection',
      input: named,
      shows: (c) => shownConnection(c),
    }),
    operation(verb('attempts', 'show the last renewal attempts as sent and received, secrets masked', 'rk connection attempts sailings').argument('<name>'), {
      calls: 'listAttempts',
      input: named,
      shows: ({ items }) => ({
        data: { items },
        parts:
          items.length === 0
            ? [text('No attempt is recorded. All failures are kept, and some of the successes.')]
            : items.map((one) =>
                fields([
                  ['When', relative(one.at)],
                  ['Class', one.class.replaceAll('_', ' ')],
                  ['Request', `${one.request.method} ${one.request.url}`],
                  ...Object.entries(one.request.form).map(([name, value]): [string, string] => ['', `${name}=${value}`]),
                  ['Answer', one.answer ? `${one.answer.status} ${whole(one.answer.body)}` : one.reason],
                  ['Took', `${Math.round(one.took_ms)} ms`],
                ]),
              ),
      }),
    }),
    operation(verb('pause', 'stop issuing tokens on every replica, within a second', 'rk connection pause sailings').argument('<name>'), {
      calls: 'pauseConnection',
      input: named,
      shows: (c) => shownConnection(c, 'tokens already issued stay valid at the provider until they expire'),
    }),
    operation(verb('resume', 'renew, then issue tokens again', 'rk connection resume sailings').argument('<name>'), {
      calls: 'resumeConnection',
      input: named,
      shows: (c) => shownConnection(c),
    }),
    operation(verb('remove', 'remove a connection and delete its tokens here', 'rk connection remove sailings').argument('<name>'), {
      calls: 'removeConnection',
      asks: async (given) => {
        const { callers } = await given.call('showConnection', named(given));
        const [name] = given.args;
        return `Remove the connection ${name} and delete its tokens?${callers.length > 0 ? ` Used by ${callers.join(', ')}.` : ''} At the provider the grant stays until it is withdrawn.`;
      },
      input: named,
      shows: (_done, { args: [name] }) => line(`Removed ${name}.`),
    }),
  ]);

/** Those of the named operations with the least privilege, else the preset of the definition. */
async function defaultScopes(call: ApiClient, provider: string, operations: string[] | undefined): Promise<string[]> {
  if (operations) return (await call('chooseScopes', { params: { provider }, body: { operations } })).scopes;
  const { definition } = await call('showProvider', { params: { provider } });
  return definition.scopes.filter((scope) => scope.preset).map((scope) => scope.name);
}

/** All pages of the list, one after the other. */
type Narrow = Omit<NonNullable<CallInput<'listConnections'>['query']>, 'after' | 'limit'>;

async function everyPage(call: ApiClient, narrow: Narrow): Promise<ConnectionSummary[]> {
  const items: ConnectionSummary[] = [];
  for (;;) {
    const page = await call('listConnections', { query: { limit: PAGE, ...narrow, after: items.at(-1)?.name } });
    items.push(...page.items);
    if (page.items.length < PAGE) return items;
  }
}

/** An answer is shown whole: what was cut off is often what explains it. */
const whole = (body: unknown): string => (typeof body === 'string' ? body : JSON.stringify(body, null, 2));
