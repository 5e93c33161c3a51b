import type { Command } from 'commander';
import type { Caller, NewKey } from '../../api/callers.ts';
import type { GlobalOptions } from '../connect.ts';
import { globals, signedIn } from '../connect.ts';
import { EXIT, Outcome } from '../exit.ts';
import { printList, printOne, relative, say } from '../print.ts';

/** The one place where a key is printed: once, when it was just made. */
function showKey(all: GlobalOptions, made: NewKey): void {
  printOne(all, made, [
    ['Caller', made.caller],
    ['Token URL', made.token_url],
    ['Client id', made.caller_id],
    ['Client secret', made.key],
    ['Resource', made.resources.join('\n')],
    ['Note', 'The key is shown this once. Give these to the integration.'],
  ]);
}

const show = (all: GlobalOptions, one: Caller): void =>
  printOne(all, one, [
    ['Caller', one.name],
    ['Title', one.title],
    ['Client id', one.caller_id],
    ['Token URL', one.token_url],
    ['Connections', one.connections.join(', ') || 'none yet'],
    [
      'Keys',
      one.keys
        .map(
          (key) =>
            `${key.starts}\u2026 ${key.label} (${key.retired_at ? `retired ${relative(key.retired_at)}` : `last used ${relative(key.last_used_at)}`}) ${key.id}`,
        )
        .join('\n'),
    ],
    ['Last hour', `${one.handouts_last_hour} tokens, ${one.refused_last_hour} refused`],
  ]);

const collect = (value: string, before: string[]): string[] => [...before, value];

export function caller(rk: Command): void {
  const noun = rk.command('caller').description('programs that may use connections');
  noun
    .command('add')
    .description('add a caller; prints its key, once')
    .argument('<name>')
    .option('--connection <name>', 'a connection it may use (can be given several times)', collect, [])
    .option('--title <text>', 'what people call it', '')
    .action(async (name: string, options: { connection: string[]; title: string }, command: Command) => {
      const all = globals(command);
      showKey(all, await (await signedIn(all))('addCaller', { body: { name, title: options.title, connections: options.connection } }));
    });
  noun
    .command('list')
    .description('list callers')
    .action(async (_options: object, command: Command) => {
      const all = globals(command);
      const { items } = await (await signedIn(all))('listCallers');
      await printList(
        all,
        items,
        {
          NAME: (one) => one.name,
          CONNECTIONS: (one) => one.connections.join(', ') || '\u2013',
          KEYS: (one) => String(one.keys.filter((key) => !key.retired_at).length),
          'LAST HOUR': (one) => `${one.handouts_last_hour} tokens`,
          'LAST USED': (one) => relative(one.last_used_at),
        },
        'No callers yet. Add one: rk caller add NAME --connection CONNECTION',
      );
    });
  noun
    .command('show')
    .description('show a caller')
    .argument('<name>')
    .action(async (name: string, _options: object, command: Command) => {
      const all = globals(command);
      show(all, await (await signedIn(all))('showCaller', { params: { caller: name } }));
    });
  noun
    .command('change')
    .description('change a caller; the connections given replace those it has')
    .argument('<name>')
    .option('--connection <name>', 'a connection it may use (can be given several times)', collect, [])
    .option('--title <text>')
    .action(async (name: string, options: { connection: string[]; title?: string }, command: Command) => {
      const all = globals(command);
      const body = { ...(options.connection.length > 0 && { connections: options.connection }), ...(options.title !== undefined && { title: options.title }) };
      show(all, await (await signedIn(all))('changeCaller', { params: { caller: name }, body }));
    });
  noun
    .command('remove')
    .description('remove a caller; its keys stop working at once')
    .argument('<name>')
    .option('--yes', 'do not ask')
    .action(async (name: string, options: { yes?: boolean }, command: Command) => {
      const all = globals(command);
      const { confirmed } = await import('../ask.ts');
      if (!(await confirmed(`Remove the caller ${name}? Its keys stop working at once.`, options.yes))) return;
      await (await signedIn(all))('removeCaller', { params: { caller: name } });
      say(all, `Removed ${name}.`);
    });
  const key = noun.command('key').description('a caller\u2019s keys');
  key
    .command('add')
    .description('add a key; prints it, once')
    .argument('<caller>')
    .option('--label <text>', 'to tell it apart', '')
    .action(async (name: string, options: { label: string }, command: Command) => {
      const all = globals(command);
      showKey(all, await (await signedIn(all))('addKey', { params: { caller: name }, body: { label: options.label } }));
    });
  key
    .command('retire')
    .description('retire a key; it stops working at once')
    .argument('<caller>')
    .argument('<key>', 'its id, or the characters it starts with')
    .option('--yes', 'do not ask')
    .action(async (name: string, which: string, options: { yes?: boolean }, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      const one = await call('showCaller', { params: { caller: name } });
      const found = one.keys.filter((candidate) => !candidate.retired_at && (candidate.id === which || candidate.starts === which.replace('\u2026', '')));
      const [only] = found;
      if (!only || found.length > 1)
        throw new Outcome(
          EXIT.notFound,
          `${found.length === 0 ? 'No' : 'More than one'} key of ${name} in use matches ${which}.\nWhat to do: name it by its id, as \`rk caller show ${name}\` prints it.`,
        );
      const { confirmed } = await import('../ask.ts');
      if (!(await confirmed(`Retire the key ${only.starts}\u2026 of ${name}?`, options.yes))) return;
      show(all, await call('retireKey', { params: { caller: name, key: only.id } }));
    });
}
