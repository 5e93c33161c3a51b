import type { Command } from 'commander';
import type { Client } from '../../api/clients.ts';
import { globals, signedIn } from '../connect.ts';
import { UsageError } from '../exit.ts';
import type { GlobalOptions } from '../options.ts';
import { printList, printOne, relative, say, state } from '../print.ts';
import { clientRegistering } from './client-registering.ts';
import { clientCertificate, clientSecret, splitClient } from './client-secret.ts';

async function show(all: GlobalOptions, one: Client, next?: string): Promise<void> {
  printOne(all, one, [
    ['Client', `${one.provider}/${one.name}`],
    ['State', await state(one.state)],
    ['Rehearsal', one.rehearsal_port === null ? null : `at a simulated provider on port ${one.rehearsal_port}: nothing here is real`],
    ['Why', one.cause],
    ['What to do', one.remedy],
    ['Type', one.type.replaceAll('_', ' ')],
    ['Environment', `${one.environment}${one.variant ? `, variant ${one.variant}` : ''}`],
    [
      'Placeholders',
      Object.entries(one.placeholders)
        .map(([name, value]) => `${name} ${value}`)
        .join(', '),
    ],
    ['Addresses', one.addresses.map((address) => `${address.what}: ${address.address}`).join('\n')],
    ['Not confirmed', one.unconfirmed_origins.join('\n')],
    ['Redirect URI', one.redirect_uri],
    ['Client id', one.client_id],
    ['Authenticates', one.method],
    ['Secret', one.secret ? `entered ${relative(one.secret.entered_at)}${one.secret.ends_at ? `, ends ${relative(one.secret.ends_at)}` : ''}` : null],
    ['Ready', one.ready.says],
    [
      'Approval',
      `${one.approval.replaceAll('_', ' ')}${one.registering.approved_on ? `, on ${one.registering.approved_on}: costly to touch` : ''}${one.approval_seen_at ? `, asked ${relative(one.approval_seen_at)}: ${one.approval_evidence ?? ''}` : ''}`,
    ],
    ['Sent', one.requests.map((sent) => `${sent.form}, ${sent.sent_on}, by ${sent.sent_by}`).join('\n')],
    [
      'Asked for',
      [one.registering.asked_on, one.registering.asked_by, one.registering.expected_on ? `expected ${one.registering.expected_on}` : '']
        .filter(Boolean)
        .join(', '),
    ],
    ['Over there', one.client_page],
    ['Domains there', (one.registering.domains_there ?? []).join(' ')],
    ['Against the rules', one.redirect_rules.join('\n')],
    ['Registered by', one.registering.registered_by],
    ['Notes', one.registering.notes],
    ['Reach', `${one.reach}${one.listed_accounts.length > 0 ? ` (${one.listed_accounts.join(', ')})` : ''}${one.reach_says ? `: ${one.reach_says}` : ''}`],
    ['Registered', one.registered_scopes.join(' ')],
    ['Strength', one.strength.says],
    ['Register at', one.registration_page],
    ['Connections', String(one.connections)],
    ['Next', next],
  ]);
}

interface ChangeOptions {
  clientId?: string;
  title?: string;
  environment?: 'live';
  method?: 'none';
  placeholder?: string[];
  registeredScopes?: string;
  approval?: 'given';
  reach?: 'anyone';
  listedAccounts?: string;
  domainsThere?: string;
  askedOn?: string;
  askedBy?: string;
  expectedOn?: string;
  ownPage?: string;
  registeredBy?: string;
  notes?: string;
  retire?: boolean;
  takeAsIs?: boolean;
}
/** What is remembered of registering it, of these options. */
const remembered = (options: ChangeOptions) => ({
  ...(options.domainsThere !== undefined && { domains_there: options.domainsThere.split(/[\s,;]+/).filter(Boolean) }),
  ...(options.askedOn !== undefined && { asked_on: options.askedOn || null }),
  ...(options.askedBy !== undefined && { asked_by: options.askedBy }),
  ...(options.expectedOn !== undefined && { expected_on: options.expectedOn || null }),
  ...(options.ownPage !== undefined && { own_page: options.ownPage }),
  ...(options.registeredBy !== undefined && { registered_by: options.registeredBy }),
  ...(options.notes !== undefined && { notes: options.notes }),
});

/** @throws {UsageError} */
export function readPairs(pairs: string[]): Record<string, string> {
  return Object.fromEntries(
    pairs.map((pair) => {
      const at = pair.indexOf('=');
      if (at < 1) throw new UsageError(`Write name=value, not ${pair}.`);
      return [pair.slice(0, at), pair.slice(at + 1)];
    }),
  );
}

export function client(rk: Command): void {
  const noun = rk.command('client').description('our registrations at providers');
  noun
    .command('add')
    .description('start a client as a draft; says the redirect URI to register')
    .argument('<provider>')
    .argument('<name>')
    .option('--title <text>', 'what people call it', '')
    .option('--type <word>', 'web, desktop, public, service_account or printed_code; left out: the first that the definition names')
    .option('--environment <word>', 'development, sandbox or live', 'live')
    .option('--variant <name>', 'a variant of the definition that no environment chooses by itself')
    .option('--placeholder <name=value...>', 'a value that the definition asks for, such as region=north')
    .option('--rehearsal <port>', 'the port of a simulated provider on this machine (rk standin FILE): the client is then a rehearsal')
    .action(
      async (
        provider: string,
        name: string,
        options: { title: string; type?: 'web'; environment: 'live'; variant?: string; placeholder?: string[]; rehearsal?: string },
        command: Command,
      ) => {
        const all = globals(command);
        const one = await (await signedIn(all))('addClient', {
          body: {
            provider,
            name,
            title: options.title,
            environment: options.environment,
            variant: options.variant ?? null,
            placeholders: readPairs(options.placeholder ?? []),
            rehearsal_port: options.rehearsal === undefined ? null : Number(options.rehearsal),
            ...(options.type && { type: options.type }),
          },
        });
        await show(
          all,
          one,
          `register it there with this redirect URI, then: rk client change ${provider}/${name} --client-id ID, and rk client secret add ${provider}/${name}`,
        );
      },
    );
  noun
    .command('change')
    .description('change a client; its secret is not asked for again')
    .argument('<client>', 'PROVIDER/NAME')
    .option('--client-id <id>', 'the id that the provider gave')
    .option('--title <text>')
    .option('--environment <word>')
    .option('--method <method>', 'client_secret_basic, client_secret_post, private_key_jwt or none')
    .option('--placeholder <name=value...>')
    .option('--registered-scopes <list>', 'the scopes registered at the provider, pasted in any form')
    .option('--approval <word>', 'not_needed, not_asked, asked, they_ask_back, given or refused')
    .option('--reach <word>', 'listed, organisation or anyone')
    .option('--listed-accounts <list>', 'who may sign in while it is open to listed accounts only, separated by commas')
    .option('--domains-there <list>', 'domains listed at the provider for redirect URIs')
    .option('--asked-on <date>', 'when approval was asked for (YYYY-MM-DD)')
    .option('--asked-by <form>', 'by which form')
    .option('--expected-on <date>', 'when approval is expected')
    .option('--own-page <address>', 'this very client\u2019s page over there')
    .option('--registered-by <name>')
    .option('--notes <text>')
    .option('--retire', 'retire the client')
    .option('--take-as-is', 'take a value that does not look as the definition says')
    .action(async (name: string, options: ChangeOptions, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      const params = splitClient(name);
      const { revision } = await call('showClient', { params });
      const body = {
        revision,
        ...(options.clientId !== undefined && { client_id: options.clientId }),
        ...(options.title !== undefined && { title: options.title }),
        ...(options.environment !== undefined && { environment: options.environment }),
        ...(options.method !== undefined && { method: options.method }),
        ...(options.placeholder !== undefined && { placeholders: readPairs(options.placeholder) }),
        ...(options.registeredScopes !== undefined && { registered_scopes: options.registeredScopes.split(/[\s,;]+/).filter(Boolean) }),
        ...(options.approval !== undefined && { approval: options.approval }),
        ...(options.reach !== undefined && { reach: options.reach }),
        ...(options.listedAccounts !== undefined && {
          listed_accounts: options.listedAccounts
            .split(/[,;\n]+/)
            .map((one) => one.trim())
            .filter(Boolean),
        }),
        ...(Object.keys(remembered(options)).length > 0 && { registering: remembered(options) }),
        ...(options.retire && { stage: 'retired' as const }),
        take_as_is: options.takeAsIs ?? false,
      };
      await show(all, await call('changeClient', { params, body }));
    });
  clientSecret(noun, show);
  clientCertificate(noun, show);
  clientRegistering(noun, show);
  noun
    .command('confirm-addresses')
    .description('confirm, with your own password, the addresses to which a client\u2019s secret and tokens go')
    .argument('<client>', 'PROVIDER/NAME')
    .action(async (name: string, _options: object, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      const params = splitClient(name);
      const { unconfirmed_origins: origins } = await call('showClient', { params });
      if (origins.length === 0) return say(all, 'Every address is confirmed.');
      process.stderr.write(`New: ${origins.join(', ')}\n`);
      const { secret } = await import('../ask.ts');
      await show(all, await call('confirmOrigins', { params, body: { password: await secret('Your own password') } }));
    });
  noun
    .command('list')
    .description('list clients')
    .action(async (_options: object, command: Command) => {
      const all = globals(command);
      const { items } = await (await signedIn(all))('listClients');
      const states = new Map(await Promise.all(items.map(async (one) => [one, await state(one.state)] as const)));
      await printList(
        all,
        items,
        {
          CLIENT: (one) => `${one.provider}/${one.name}`,
          STATE: (one) => states.get(one) ?? '',
          ENVIRONMENT: (one) => `${one.environment}${one.rehearsal_port === null ? '' : ', rehearsal'}`,
          CONNECTIONS: (one) => String(one.connections),
          WHY: (one) => one.cause ?? '',
        },
        'No clients yet. Start one: rk client add PROVIDER NAME',
      );
    });
  noun
    .command('show')
    .description('show a client')
    .argument('<client>', 'PROVIDER/NAME')
    .action(async (name: string, _options: object, command: Command) => {
      const all = globals(command);
      await show(all, await (await signedIn(all))('showClient', { params: splitClient(name) }));
    });
  noun
    .command('remove')
    .description('remove a client that has no connections')
    .argument('<client>', 'PROVIDER/NAME')
    .option('--yes', 'do not ask')
    .action(async (name: string, options: { yes?: boolean }, command: Command) => {
      const all = globals(command);
      const { confirmed } = await import('../ask.ts');
      if (!(await confirmed(`Remove the client ${name} and its secrets?`, options.yes))) return;
      await (await signedIn(all))('removeClient', { params: splitClient(name) });
      say(all, `Removed ${name}.`);
    });
}
