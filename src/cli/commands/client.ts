import { APPROVALS, CLIENT_AUTHENTICATION_METHODS, CLIENT_TYPES, ENVIRONMENTS, REACHES } from '../../api/choices.ts';
import { clientName, listedMore, oneOf, pairs, whole } from '../options.ts';
import { noun, operation, task, verb } from '../row.ts';
import { line, list, state } from '../show.ts';
import { shownClient } from '../views/client.ts';
import { registeringCommands } from './client-registering.ts';
import { certificate, secret } from './client-secrets.ts';

const TYPE_HELP = 'default: the first that the definition names';

export const client = () =>
  noun('client', 'our registrations at providers', [
    operation(
      verb('add', 'start a client as a draft and show the redirect URI to register', 'rk client add eelgrass timetable')
        .argument('<provider>')
        .argument('<name>')
        .option('--title <text>', 'a title for people')
        .addOption(oneOf('--type <word>', TYPE_HELP, CLIENT_TYPES))
        .addOption(oneOf('--environment <word>', 'what its connections are used for', ENVIRONMENTS).default('live' as const))
        .option('--variant <name>', 'a variant of the definition that no environment selects automatically')
        .option('--placeholder <name=value...>', 'a value that the definition requires, such as region=north', pairs)
        .option(
          '--rehearsal <port>',
          'the port of a simulated provider on this machine (rk standin FILE): the client is then a rehearsal',
          whole('--rehearsal'),
        ),
      {
        calls: 'addClient',
        input: ({ args: [provider, name], options }) => ({
          body: {
            provider,
            name,
            title: options.title,
            environment: options.environment,
            variant: options.variant,
            placeholders: options.placeholder,
            rehearsal_port: options.rehearsal,
            type: options.type,
          },
        }),
        shows: (one, { args: [provider, name] }) =>
          shownClient(
            one,
            `register it at the provider with this redirect URI, then: rk client change ${provider}/${name} --client-id ID, and rk client secret add ${provider}/${name}`,
          ),
      },
    ),
    operation(
      verb('change', 'change a client; its secret stays', 'rk client change eelgrass/timetable --client-id harbour-4711')
        .argument('<client>', 'PROVIDER/NAME', clientName)
        .option('--client-id <id>', 'the id that the provider gave')
        .option('--title <text>', 'a title for people')
        .addOption(oneOf('--environment <word>', 'what its connections are used for', ENVIRONMENTS))
        .addOption(oneOf('--method <method>', 'how it authenticates at the token endpoint', CLIENT_AUTHENTICATION_METHODS))
        .option('--placeholder <name=value...>', 'a value that the definition requires', pairs)
        .option('--registered-scopes <scopes...>', 'the scopes registered at the provider, pasted in any form', listedMore)
        .addOption(oneOf('--approval <word>', 'where it stands in the provider\u2019s approval', APPROVALS))
        .addOption(oneOf('--reach <word>', 'who can sign in', REACHES))
        .option('--listed-accounts <accounts...>', 'who can sign in while only listed accounts can', accounts)
        .option('--domains <domains...>', 'domains listed at the provider for redirect URIs', listedMore)
        .option('--requested-on <date>', 'when approval was requested (YYYY-MM-DD)')
        .option('--request-form <form>', 'the form used for the request')
        .option('--expected-on <date>', 'when approval is expected')
        .option('--page <address>', 'the page of this client at the provider')
        .option('--registered-by <name>', 'who registered it')
        .option('--notes <text>', 'notes for people')
        .option('--retire', 'retire the client')
        .option('--take-as-is', 'accept a value that does not match the format in the definition'),
      {
        calls: 'changeClient',
        input: async ({ args: [params], options, call }) => {
          const { revision } = await call('showClient', { params });
          const remembered = {
            domains_there: options.domains,
            requested_on: options.requestedOn === '' ? null : options.requestedOn,
            request_form: options.requestForm,
            expected_on: options.expectedOn === '' ? null : options.expectedOn,
            own_page: options.page,
            registered_by: options.registeredBy,
            notes: options.notes,
          };
          const body = {
            revision,
            client_id: options.clientId,
            title: options.title,
            environment: options.environment,
            method: options.method,
            placeholders: options.placeholder,
            registered_scopes: options.registeredScopes,
            approval: options.approval,
            reach: options.reach,
            listed_accounts: options.listedAccounts,
            registering: Object.values(remembered).some((value) => value !== undefined) ? remembered : undefined,
            stage: options.retire && ('retired' as const),
            take_as_is: options.takeAsIs,
          };
          return { params, body };
        },
        shows: (one) => shownClient(one),
      },
    ),
    secret(),
    certificate(),
    ...registeringCommands(),
    task(
      verb(
        'confirm-addresses',
        'confirm, with your password, new addresses that a client\u2019s secret and tokens are sent to',
        'rk client confirm-addresses eelgrass/timetable',
      ).argument('<client>', 'PROVIDER/NAME', clientName),
      async ({ args: [params], call }) => {
        const { unconfirmed_origins: origins } = await call('showClient', { params });
        if (origins.length === 0) return line('All addresses are confirmed.');
        process.stderr.write(`New: ${origins.join(', ')}\n`);
        const { secret } = await import('../ask.ts');
        return shownClient(await call('confirmOrigins', { params, body: { password: await secret('Your password') } }));
      },
    ),
    operation(verb('list', 'list clients', 'rk client list'), {
      calls: 'listClients',
      shows: ({ items }) =>
        list(
          items,
          {
            CLIENT: (one) => `${one.provider}/${one.name}`,
            STATE: (one) => state(one.state),
            ENVIRONMENT: (one) => `${one.environment}${one.rehearsal_port === null ? '' : ', rehearsal'}`,
            CONNECTIONS: (one) => String(one.connections),
            WHY: (one) => one.cause ?? '',
          },
          'No clients yet. Start one: rk client add PROVIDER NAME',
        ),
    }),
    operation(verb('show', 'show a client', 'rk client show eelgrass/timetable').argument('<client>', 'PROVIDER/NAME', clientName), {
      calls: 'showClient',
      input: ({ args: [params] }) => ({ params }),
      shows: (one) => shownClient(one),
    }),
    operation(
      verb('remove', 'remove a client that has no connections', 'rk client remove eelgrass/timetable').argument('<client>', 'PROVIDER/NAME', clientName),
      {
        calls: 'removeClient',
        asks: ({ args: [{ provider, client: name }] }) => `Remove the client ${provider}/${name} and its secrets?`,
        input: ({ args: [params] }) => ({ params }),
        shows: (_done, { args: [{ provider, client: name }] }) => line(`Removed ${provider}/${name}.`),
      },
    ),
  ]);

const accounts = (text: string, before: string[] | undefined): string[] => [
  ...(before ?? []),
  ...text
    .split(/[,;\n]+/)
    .map((one) => one.trim())
    .filter(Boolean),
];
