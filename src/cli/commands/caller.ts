import type { Command, OptionValues } from '@commander-js/extra-typings';
import { namesInWords, usesUnder } from '../../api/caller-words.ts';
import { PEOPLE_RIGHTS, RELAY_METHODS, SETUP_KINDS, USES } from '../../api/choices.ts';
import { counted } from '../../api/vocabulary.ts';
import { EXIT, Outcome, UsageError } from '../exit.ts';
import { date, oneOf, whole } from '../options.ts';
import { relative } from '../print.ts';
import { agreed, noun, operation, task, verb } from '../row.ts';
import { line, list, type Shown, table } from '../show.ts';
import { inUse, setupParts, shownCaller, shownKey } from '../views/caller.ts';
import { eventCommands } from './caller-events.ts';
import { identityCommands } from './caller-identities.ts';

const named = ({ args: [name] }: { args: [string, ...unknown[]] }) => ({ params: { caller: name } });

/** What is special about the tool behind a caller. */
const withTool = <A extends unknown[], O extends OptionValues>(command: Command<A, O>) =>
  command
    .option('--token-path <path>', 'an additional token path, for tools that build it from fixed fields; empty: none')
    .option('--redirect-uri <address...>', 'where the sign-in for tools sends the browser back; empty: none')
    .option('--keeps-no-secret', 'the tool cannot keep a key: at the sign-in for tools, PKCE alone identifies it');
interface ToolOptions {
  tokenPath?: string;
  redirectUri?: string[];
  keepsNoSecret?: true;
}
const toolBody = (options: ToolOptions) => ({
  token_path: options.tokenPath === '' ? null : options.tokenPath,
  redirect_uris: options.redirectUri?.filter((one) => one !== ''),
  keeps_no_secret: options.keepsNoSecret,
});

export const caller = () =>
  noun('caller', 'programs that may use connections', [
    operation(
      withTool(
        verb('add', 'add a caller and print its key, once', 'rk caller add timetable-board --connection sailings')
          .argument('<name>')
          .option('--connection <name...>', 'a connection it may use')
          .option('--title <text>', 'a title for people'),
      ),
      {
        calls: 'addCaller',
        input: ({ args: [name], options }) => ({ body: { name, title: options.title, connections: options.connection, ...toolBody(options) } }),
        shows: shownKey,
      },
    ),
    operation(verb('list', 'list callers', 'rk caller list'), {
      calls: 'listCallers',
      shows: ({ items }) =>
        list(
          items,
          {
            NAME: (one) => one.name,
            CONNECTIONS: (one) => namesInWords(one.connections, one.connections_total) || '\u2013',
            KEYS: (one) => String(one.keys.filter(inUse).length),
            'LAST HOUR': (one) =>
              `${counted(one.tokens_last_hour, 'token')}, ${one.relayed_last_hour} relayed${one.refused_last_hour > 0 ? `, ${one.refused_last_hour} rejected` : ''}`,
            'LAST USED': (one) => relative(one.last_used_at),
          },
          'No callers yet. Add one: rk caller add NAME --connection CONNECTION',
        ),
    }),
    operation(verb('show', 'show a caller', 'rk caller show timetable-board').argument('<name>'), { calls: 'showCaller', input: named, shows: shownCaller }),
    operation(
      withTool(
        verb(
          'change',
          'change a caller; --connection and --redirect-uri replace all that it has by name',
          'rk caller change timetable-board --title "Timetable board"',
        )
          .argument('<name>')
          .option('--connection <name...>', 'a connection it may use')
          .option('--title <text>', 'a title for people'),
      ),
      {
        calls: 'changeCaller',
        input: (given) => ({ ...named(given), body: { connections: given.options.connection, title: given.options.title, ...toolBody(given.options) } }),
        shows: shownCaller,
      },
    ),
    operation(verb('remove', 'remove a caller; its keys stop working at once', 'rk caller remove timetable-board').argument('<name>'), {
      calls: 'removeCaller',
      asks: async (given) => {
        const { uses } = await given.call('showCaller', named(given));
        const used = uses.map((use) => `${use.connection} (${relative(use.last_at)})`);
        const stops = used.length > 0 ? ` In the last day it used: ${used.join(', ')}.` : ' It was not used in the last day.';
        return `Remove the caller ${given.args[0]}? Its keys stop working at once.${stops}`;
      },
      input: named,
      shows: (_done, { args: [name] }) => line(`Removed ${name}.`),
    }),
    operation(
      verb(
        'permit',
        'permit a connection, or all that have a label; replaces what was permitted for the same',
        'rk caller permit timetable-board --label reports',
      )
        .argument('<caller>')
        .option('--connection <name>', 'the connection')
        .option('--label <label>', 'all connections with this label, also later ones')
        .addOption(oneOf('--use <use>', 'fetch tokens, relay calls, or any of the two', USES).default('any' as const))
        .option('--method <method...>', 'a method allowed through the relay; default: all')
        .option('--path <pattern...>', 'a path allowed through the relay, such as /parcels/* or /parcels/**; default: all')
        .option('--share <percent>', 'at most this share of each quota window', whole('--share'))
        .addOption(
          oneOf('--people <right>', 'of a shared connection: see its people and events, or invite and disconnect them too', PEOPLE_RIGHTS).default(
            'none' as const,
          ),
        ),
      {
        calls: 'permitCaller',
        input: (given) => {
          const { connection, label, use, method, path, share, people } = given.options;
          if ((connection === undefined) === (label === undefined)) throw new UsageError('Name --connection or --label, one of the two.');
          return { ...named(given), body: { connection, label, use, methods: method?.map(relayMethod), paths: path, share: share ?? null, people } };
        },
        shows: shownCaller,
      },
    ),
    task(
      verb('withdraw', 'withdraw a permission; effective within a second', 'rk caller withdraw timetable-board sailings')
        .argument('<caller>')
        .argument('<what>', 'the connection or the label that was permitted')
        .option('--yes', 'do not ask'),
      async ({ args: [name, what], options, call }) => {
        const one = await call('showCaller', { params: { caller: name } });
        const found = one.permissions.find((permission) => permission.connection === what || permission.label === what);
        if (!found) throw new Outcome(EXIT.notFound, `${name} has no permission for ${what}.\nWhat to do: \`rk caller show ${name}\` lists its permissions.`);
        const used = usesUnder(one, found).map((use) => `${use.connection} (${relative(use.last_at)})`);
        const stops = used.length > 0 ? ` Used in the last day: ${used.join(', ')}.` : ' It was not used in the last day.';
        if (!(await agreed(options, `Withdraw the permission of ${name} for ${what}?${stops}`))) return undefined;
        return shownCaller(await call('withdrawPermission', { params: { caller: name, permission: found.id } }));
      },
    ),
    task(
      verb('setup', 'print the setup instructions for one kind of tool: what to paste into which field', 'rk caller setup timetable-board --kind token_url')
        .argument('<caller>')
        .option('--connection <name>', 'required if it may use several')
        .addOption(oneOf('--kind <kind>', 'default: list the kinds, and how to recognize them', SETUP_KINDS)),
      async ({ args: [name], options, call }): Promise<Shown> => {
        const { connections, connections_total: total } = await call('showCaller', { params: { caller: name } });
        const connection = options.connection ?? (total === 1 ? connections[0] : undefined);
        if (connection === undefined)
          throw new UsageError(
            connections.length === 0
              ? `${name} has no permissions yet: rk caller permit ${name} --connection NAME.`
              : `Name one: --connection ${connections.join(' or ')}.`,
          );
        const { items } = await call('listSetupInstructions', { params: { caller: name }, query: { connection } });
        const kinds = table(items, { KIND: (one) => one.kind, TOOL: (one) => one.fits, READY: (one) => (one.ready ? 'yes' : one.missing.join(' ')) }, '');
        if (options.kind === undefined) return { data: { items }, parts: [kinds] };
        const chosen = items.filter((sheet) => sheet.kind === options.kind);
        return { data: { items: chosen }, parts: chosen.flatMap(setupParts) };
      },
    ),
    operation(
      verb('usage', 'show tokens and calls by connection, minute and outcome, newest first', 'rk caller usage timetable-board --minutes 120')
        .argument('<caller>')
        .option('--connection <name>', 'only this connection')
        .option('--minutes <n>', 'how far back', whole('--minutes'), 60),
      {
        calls: 'listUsage',
        input: ({ args: [name], options }) => ({ query: { caller: name, connection: options.connection, minutes: options.minutes } }),
        shows: ({ items }, { options }) =>
          list(
            items,
            {
              MINUTE: (one) => one.minute.slice(0, 16).replace('T', ' '),
              CONNECTION: (one) => one.connection,
              OUTCOME: (one) => one.outcome,
              COUNT: (one) => String(one.count),
            },
            `Not used in the last ${options.minutes} minutes.`,
          ),
      },
    ),
    operation(
      verb('sign-out', 'end a tool\u2019s sign-in', 'rk caller sign-out planner SIGN_IN_ID')
        .argument('<caller>')
        .argument('<sign-in>', 'its id, from `rk caller show`'),
      {
        calls: 'endSignIn',
        asks: ({ args: [name] }) => `End this sign-in of ${name}? Its tool must sign in again.`,
        input: ({ args: [name, id] }) => ({ params: { caller: name, sign_in: id } }),
        shows: shownCaller,
      },
    ),
    noun('key', 'a caller\u2019s keys', [
      operation(
        verb('add', 'add a key and print it, once', 'rk caller key add timetable-board --label autumn')
          .argument('<caller>')
          .option('--label <text>', 'to tell keys apart')
          .option('--until <date>', 'when it expires, such as 2027-06-30', date('--until')),
        {
          calls: 'addKey',
          input: (given) => ({ ...named(given), body: { label: given.options.label, ends_at: given.options.until ?? null } }),
          shows: shownKey,
        },
      ),
      operation(
        verb('rotate', 'add a key and print it, once; the former ones end after an overlap', 'rk caller key rotate timetable-board --overlap 24')
          .argument('<caller>')
          .option('--overlap <hours>', 'how long the former keys work on', whole('--overlap'), 24)
          .option('--label <text>', 'to tell keys apart'),
        {
          calls: 'rotateKey',
          input: ({ args: [name], options }) => ({ params: { caller: name }, body: { label: options.label ?? '', overlap_hours: options.overlap } }),
          shows: shownKey,
        },
      ),
      task(
        verb('retire', 'retire a key; it stops working at once', 'rk caller key retire timetable-board rkk_4f2a')
          .argument('<caller>')
          .argument('<key>', 'its id, or its first characters')
          .option('--yes', 'do not ask'),
        async ({ args: [name, which], options, call }) => {
          const { keys } = await call('showCaller', { params: { caller: name } });
          const found = keys.filter((key) => inUse(key) && (key.id === which || key.starts === which.replace('\u2026', '')));
          const [only] = found;
          if (!only || found.length > 1)
            throw new Outcome(
              EXIT.notFound,
              `${found.length === 0 ? 'No' : 'More than one'} active key of ${name} matches ${which}.\nWhat to do: name it by its id, from \`rk caller show ${name}\`.`,
            );
          if (!(await agreed(options, `Retire the key ${only.starts}\u2026 of ${name}?`))) return undefined;
          return shownCaller(await call('retireKey', { params: { caller: name, key: only.id } }));
        },
      ),
    ]),
    ...identityCommands(),
    ...eventCommands(),
  ]);

/** @throws {UsageError} */
function relayMethod(text: string): (typeof RELAY_METHODS)[number] {
  const found = RELAY_METHODS.find((method) => method === text.toUpperCase());
  if (!found) throw new UsageError(`--method takes ${RELAY_METHODS.join(', ')}, not ${text}.`);
  return found;
}
