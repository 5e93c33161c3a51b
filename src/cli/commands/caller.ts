import type { Command } from 'commander';
import { namesInWords } from '../../api/caller-words.ts';
import type { Caller, NewKey } from '../../api/callers.ts';
import { globals, signedIn } from '../connect.ts';
import { EXIT, Outcome, UsageError } from '../exit.ts';
import type { GlobalOptions } from '../options.ts';
import { printList, printOne, relative, say } from '../print.ts';
import { callerUsing } from './caller-using.ts';

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
    [
      'May use',
      one.permissions
        .map((may) => `${may.connection ?? `label ${may.label} (${namesInWords(may.covers, may.covers_total) || 'nothing carries it'})`}: ${may.says}`)
        .join('\n') || 'nothing yet',
    ],
    ['Token path', one.token_path],
    ['Redirect URIs', one.redirect_uris.join('\n')],
    ['Keeps no secret', one.keeps_no_secret ? 'yes: at the door, PKCE alone proves it' : null],
    [
      'Keys',
      one.keys
        .map(
          (key) =>
            `${key.starts}\u2026 ${key.label} (${key.retired_at && Date.parse(key.retired_at) <= Date.now() ? `retired ${relative(key.retired_at)}` : `last used ${relative(key.last_used_at)}${key.retired_at ? `, ends ${relative(key.retired_at)}` : ''}`}) ${key.id}`,
        )
        .join('\n'),
    ],
    [
      'Signed in',
      one.signed_in
        .filter((tool) => tool.ended_at === null)
        .map((tool) => `${tool.connection}, by ${tool.operator} ${relative(tool.signed_in_at)}, last used ${relative(tool.last_used_at)} ${tool.id}`)
        .join('\n'),
    ],
    ['Last hour', `${one.handouts_last_hour} tokens, ${one.relayed_last_hour} relayed, ${one.refused_last_hour} refused`],
    [
      'Last day',
      one.uses
        .map(
          (use) =>
            `${use.connection}: ${use.tokens} tokens, ${use.relayed} relayed, ${use.refused} refused, last ${relative(use.last_at)}${relayInWords(use.relay)}`,
        )
        .join('\n') || 'not used: nothing stops when it ends',
    ],
  ]);

interface ToolOptions {
  tokenPath?: string;
  redirectUri: string[];
  keepsNoSecret?: boolean;
}
/** What is special about the tool behind a caller. */
const withTool = (command: Command): Command =>
  command
    .option('--token-path <path>', 'a further token path, for tools that build it from fixed boxes; empty: none')
    .option('--redirect-uri <address...>', 'where the door sends the browser back, for tools that sign in (empty: none)', [])
    .option('--keeps-no-secret', 'the tool cannot keep a key: at the door, PKCE alone proves it');
const toolBody = (options: ToolOptions) => ({
  ...(options.tokenPath !== undefined && { token_path: options.tokenPath === '' ? null : options.tokenPath }),
  ...(options.redirectUri.length > 0 && { redirect_uris: options.redirectUri.filter((one) => one !== '') }),
  ...(options.keepsNoSecret !== undefined && { keeps_no_secret: options.keepsNoSecret }),
});

export function caller(rk: Command): void {
  const noun = rk.command('caller').description('programs that may use connections');
  withTool(noun.command('add'))
    .description('add a caller; prints its key, once')
    .argument('<name>')
    .option('--connection <name...>', 'a connection it may use', [])
    .option('--title <text>', 'what people call it', '')
    .action(async (name: string, options: { connection: string[]; title: string } & ToolOptions, command: Command) => {
      const all = globals(command);
      showKey(all, await (await signedIn(all))('addCaller', { body: { name, title: options.title, connections: options.connection, ...toolBody(options) } }));
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
          CONNECTIONS: (one) => namesInWords(one.connections, one.connections_total) || '\u2013',
          KEYS: (one) => String(one.keys.filter((key) => key.retired_at === null || Date.parse(key.retired_at) > Date.now()).length),
          'LAST HOUR': (one) =>
            `${one.handouts_last_hour} tokens, ${one.relayed_last_hour} relayed${one.refused_last_hour > 0 ? `, ${one.refused_last_hour} refused` : ''}`,
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
  withTool(noun.command('change'))
    .description('change a caller; the connections given replace those it has by name, the redirect URIs given all it has')
    .argument('<name>')
    .option('--connection <name...>', 'a connection it may use', [])
    .option('--title <text>')
    .action(async (name: string, options: { connection: string[]; title?: string } & ToolOptions, command: Command) => {
      const all = globals(command);
      const named = options.connection.length > 0 && { connections: options.connection };
      const body = { ...named, ...(options.title !== undefined && { title: options.title }), ...toolBody(options) };
      show(all, await (await signedIn(all))('changeCaller', { params: { caller: name }, body }));
    });
  noun
    .command('remove')
    .description('remove a caller; its keys stop working at once')
    .argument('<name>')
    .option('--yes', 'do not ask')
    .action(async (name: string, options: { yes?: boolean }, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      const { uses } = await call('showCaller', { params: { caller: name } });
      const { confirmed } = await import('../ask.ts');
      const breaks =
        uses.length > 0
          ? ` In the last day it used: ${uses.map((use) => `${use.connection} (${relative(use.last_at)})`).join(', ')}.`
          : ' It was not used in the last day.';
      if (!(await confirmed(`Remove the caller ${name}? Its keys stop working at once.${breaks}`, options.yes))) return;
      await call('removeCaller', { params: { caller: name } });
      say(all, `Removed ${name}.`);
    });
  callerUsing(noun, show);
  const key = noun.command('key').description('a caller\u2019s keys');
  key
    .command('add')
    .description('add a key; prints it, once')
    .argument('<caller>')
    .option('--label <text>', 'to tell it apart', '')
    .option('--until <date>', 'when it stops working by itself, such as 2027-06-30')
    .action(async (name: string, options: { label: string; until?: string }, command: Command) => {
      const all = globals(command);
      const ends = options.until === undefined ? null : new Date(options.until);
      if (ends !== null && Number.isNaN(ends.getTime())) throw new UsageError('--until takes a date such as 2027-06-30.');
      showKey(all, await (await signedIn(all))('addKey', { params: { caller: name }, body: { label: options.label, ends_at: ends?.toISOString() ?? null } }));
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
      const found = one.keys.filter(
        (candidate) =>
          (candidate.retired_at === null || Date.parse(candidate.retired_at) > Date.now()) &&
          (candidate.id === which || candidate.starts === which.replace('\u2026', '')),
      );
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

/** Counts by class of status, and the last call that failed with its verdict. */
export function relayInWords(relay: Caller['uses'][number]['relay']): string {
  if (!relay) return '';
  const counts = Object.entries(relay.by_class)
    .sort()
    .map(([group, count]) => `${group === 'none' ? 'no answer' : group}: ${count}`)
    .join(', ');
  const { last_failed: failed } = relay;
  return `\n  relayed: ${counts}${failed ? `\n  ${failed.status ?? 'no answer'} ${failed.method} ${failed.path} ${relative(failed.at)}: ${failed.says ?? ''} ${failed.remedy ?? ''}`.trimEnd() : ''}`;
}
