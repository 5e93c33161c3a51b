import type { Command } from 'commander';
import type { Client } from '../../api/clients.ts';
import type { GlobalOptions } from '../connect.ts';
import { globals, signedIn } from '../connect.ts';
import { UsageError } from '../exit.ts';
import { printList, printOne, relative, say, state } from '../print.ts';

/** A client is named PROVIDER/NAME. */
export function splitClient(text: string): { provider: string; client: string } {
  const [provider, client, ...more] = text.split('/');
  if (!provider || !client || more.length > 0) throw new UsageError(`A client is named PROVIDER/NAME, not ${text}.`);
  return { provider, client };
}

async function show(all: GlobalOptions, one: Client, next?: string): Promise<void> {
  printOne(all, one, [
    ['Client', `${one.provider}/${one.name}`],
    ['State', await state(one.state)],
    ['Why', one.cause],
    ['What to do', one.remedy],
    ['Environment', one.environment],
    [
      'Placeholders',
      Object.entries(one.placeholders)
        .map(([name, value]) => `${name} ${value}`)
        .join(', '),
    ],
    ['Redirect URI', one.redirect_uri],
    ['Client id', one.client_id],
    ['Secret', one.secret ? `entered ${relative(one.secret.entered_at)}${one.secret.ends_at ? `, ends ${relative(one.secret.ends_at)}` : ''}` : null],
    ['Register at', one.registration_page],
    ['Connections', String(one.connections)],
    ['Next', next],
  ]);
}

/** @throws {UsageError} */
function readPairs(pairs: string[]): Record<string, string> {
  return Object.fromEntries(
    pairs.map((pair) => {
      const at = pair.indexOf('=');
      if (at < 1) throw new UsageError(`Write --placeholder name=value, not ${pair}.`);
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
    .option('--environment <word>', 'development, sandbox or live', 'live')
    .option('--placeholder <name=value...>', 'a value that the definition asks for, such as region=north')
    .action(async (provider: string, name: string, options: { title: string; environment: 'live'; placeholder?: string[] }, command: Command) => {
      const all = globals(command);
      const one = await (await signedIn(all))('addClient', {
        body: { provider, name, title: options.title, environment: options.environment, placeholders: readPairs(options.placeholder ?? []) },
      });
      await show(
        all,
        one,
        `register it there with this redirect URI, then: rk client change ${provider}/${name} --client-id ID, and rk client secret add ${provider}/${name}`,
      );
    });
  noun
    .command('change')
    .description('change a client; its secret is not asked for again')
    .argument('<client>', 'PROVIDER/NAME')
    .option('--client-id <id>', 'the id that the provider gave')
    .option('--title <text>')
    .option('--environment <word>')
    .action(async (name: string, options: { clientId?: string; title?: string; environment?: 'live' }, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      const params = splitClient(name);
      const { revision } = await call('showClient', { params });
      const body = {
        revision,
        ...(options.clientId !== undefined && { client_id: options.clientId }),
        ...(options.title !== undefined && { title: options.title }),
        ...(options.environment !== undefined && { environment: options.environment }),
      };
      await show(all, await call('changeClient', { params, body }));
    });
  const secretNoun = noun.command('secret').description('a client\u2019s secrets; they go in and never come out');
  secretNoun
    .command('add')
    .description('enter a secret: asked for, or read from standard input')
    .argument('<client>', 'PROVIDER/NAME')
    .option('--ends <date>', 'when the provider lets it end (YYYY-MM-DD)')
    .action(async (name: string, options: { ends?: string }, command: Command) => {
      const all = globals(command);
      const ends = options.ends === undefined ? null : new Date(options.ends);
      if (ends && Number.isNaN(ends.getTime())) throw new UsageError(`--ends takes a date such as 2027-03-31, not ${options.ends}.`);
      const { secret } = await import('../ask.ts');
      const call = await signedIn(all);
      await show(
        all,
        await call('addSecret', { params: splitClient(name), body: { secret: await secret('Client secret'), ends_at: ends?.toISOString() ?? null } }),
      );
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
          ENVIRONMENT: (one) => one.environment,
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
    .command('check-redirect')
    .description('compare the redirect URI registered at the provider with ours, character by character')
    .argument('<client>', 'PROVIDER/NAME')
    .argument('<registered>', 'as it stands at the provider')
    .action(async (name: string, registered: string, _options: object, command: Command) => {
      const all = globals(command);
      const verdict = await (await signedIn(all))('checkRedirectUri', { params: splitClient(name), body: { registered } });
      printOne(all, verdict, [
        ['Verdict', verdict.says],
        ['Ours', verdict.ours],
        ['Registered', registered],
        ['', verdict.at === null ? null : `${' '.repeat(verdict.at)}^`],
      ]);
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
