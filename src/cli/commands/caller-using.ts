import type { Command } from 'commander';
import { usesUnder } from '../../api/caller-words.ts';
import type { Caller } from '../../api/callers.ts';
import { globals, signedIn } from '../connect.ts';
import { EXIT, Outcome, UsageError } from '../exit.ts';
import type { GlobalOptions } from '../options.ts';
import { printJson, printList, relative } from '../print.ts';

interface PermitOptions {
  connection?: string;
  label?: string;
  use: string;
  method: string[];
  path: string[];
  share?: string;
}

/** What a caller may use and did use, what to paste into its tool, and the tools that signed in for it. */
export function callerUsing(noun: Command, show: (all: GlobalOptions, one: Caller) => void): void {
  noun
    .command('permit')
    .description('permit a connection, or all that carry a label; what was permitted for the same is replaced')
    .argument('<caller>')
    .option('--connection <name>')
    .option('--label <label>')
    .option('--use <use>', 'token, relay, or any: either', 'any')
    .option('--method <method...>', 'a method that passes the relay; none named: all', [])
    .option('--path <pattern...>', 'a path that passes the relay, such as /parcels/* or /parcels/**', [])
    .option('--share <percent>', 'the most of each quota window that it may use')
    .action(async (name: string, options: PermitOptions, command: Command) => {
      const all = globals(command);
      if ((options.connection === undefined) === (options.label === undefined)) throw new UsageError('Name --connection or --label, one of the two.');
      if (!['any', 'token', 'relay'].includes(options.use)) throw new UsageError('--use takes token, relay or any.');
      const body = {
        ...(options.connection !== undefined && { connection: options.connection }),
        ...(options.label !== undefined && { label: options.label }),
        use: options.use as 'any',
        methods: options.method.map((one) => one.toUpperCase()) as 'GET'[],
        paths: options.path,
        share: options.share === undefined ? null : Number(options.share),
      };
      show(all, await (await signedIn(all))('permitCaller', { params: { caller: name }, body }));
    });
  noun
    .command('withdraw')
    .description('withdraw a permission; it stops working within a second')
    .argument('<caller>')
    .argument('<what>', 'the connection or the label that was permitted')
    .option('--yes', 'do not ask')
    .action(async (name: string, what: string, options: { yes?: boolean }, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      const one = await call('showCaller', { params: { caller: name } });
      const found = one.permissions.find((permission) => permission.connection === what || permission.label === what);
      if (!found) throw new Outcome(EXIT.notFound, `${name} has no permission for ${what}.\nWhat to do: \`rk caller show ${name}\` lists what it has.`);
      const used = usesUnder(one, found);
      const { confirmed } = await import('../ask.ts');
      const stops =
        used.length > 0
          ? ` Used in the last day: ${used.map((use) => `${use.connection} (${relative(use.last_at)})`).join(', ')}.`
          : ' It was not used in the last day.';
      if (!(await confirmed(`Withdraw ${what} from ${name}?${stops}`, options.yes))) return;
      show(all, await call('withdrawPermission', { params: { caller: name, permission: found.id } }));
    });
  noun
    .command('sheet')
    .description('what to paste where, for each kind of tool, with this caller\u2019s values')
    .argument('<caller>')
    .option('--connection <name>', 'needed where it may use several')
    .option('--kind <kind>', 'sign_in, token_url, refresh_token, fixed_boxes, header or own_code; left out: which kinds there are, and how to tell them')
    .action(async (name: string, options: { connection?: string; kind?: string }, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      const { connections, connections_total } = await call('showCaller', { params: { caller: name } });
      const connection = options.connection ?? (connections_total === 1 ? connections[0] : undefined);
      if (connection === undefined)
        throw new UsageError(
          connections.length === 0
            ? `${name} may use nothing yet: rk caller permit ${name} --connection NAME.`
            : `Name one: --connection ${connections.join(' or ')}.`,
        );
      const { items } = await call('listSheets', { params: { caller: name }, query: { connection } });
      const chosen = options.kind === undefined ? items : items.filter((sheet) => sheet.kind === options.kind);
      if (chosen.length === 0) throw new UsageError(`--kind takes ${items.map((sheet) => sheet.kind).join(', ')}.`);
      if (all.output === 'json') return printJson({ items: chosen });
      if (options.kind === undefined)
        return printList(
          all,
          items,
          { KIND: (one) => one.kind, 'THE TOOL': (one) => one.fits, READY: (one) => (one.ready ? 'yes' : one.missing.join(' ')) },
          '',
        );
      for (const sheet of chosen) {
        process.stdout.write(`${sheet.title}: ${sheet.fits}\n`);
        for (const missing of sheet.missing) process.stdout.write(`  first: ${missing}\n`);
        if (sheet.weaker) process.stdout.write(`  weaker: ${sheet.weaker}\n`);
        process.stdout.write('\n');
        for (const [at, step] of sheet.steps.entries()) process.stdout.write(`  ${at + 1}. ${step}\n`);
        process.stdout.write('\n');
        if (sheet.boxes.length > 0)
          await printList(
            all,
            sheet.boxes,
            { BOX: (one) => one.box, PASTE: (one) => (one.as === 'value' ? one.value : `(${one.value})`), NOTE: (one) => one.note },
            '',
          );
        if (sheet.text) process.stdout.write(`${sheet.text}\n`);
      }
    });
  noun
    .command('usage')
    .description('uses by connection, minute and outcome, newest first')
    .argument('<caller>')
    .option('--connection <name>')
    .option('--minutes <n>', 'how far back', '60')
    .action(async (name: string, options: { connection?: string; minutes: string }, command: Command) => {
      const all = globals(command);
      const { items } = await (await signedIn(all))('listUsage', { query: { caller: name, connection: options.connection, minutes: options.minutes } });
      await printList(
        all,
        items,
        {
          MINUTE: (one) => one.minute.slice(0, 16).replace('T', ' '),
          CONNECTION: (one) => one.connection,
          OUTCOME: (one) => one.outcome,
          COUNT: (one) => String(one.count),
        },
        `Nothing in the last ${options.minutes} minutes.`,
      );
    });
  noun
    .command('sign-out')
    .description('end the sign-in of a tool that came through the door')
    .argument('<caller>')
    .argument('<sign-in>', 'its id, as `rk caller show` prints it')
    .option('--yes', 'do not ask')
    .action(async (name: string, id: string, options: { yes?: boolean }, command: Command) => {
      const all = globals(command);
      const { confirmed } = await import('../ask.ts');
      if (!(await confirmed(`End this sign-in of ${name}? Its tool must sign in again.`, options.yes))) return;
      show(all, await (await signedIn(all))('endSignIn', { params: { caller: name, sign_in: id } }));
    });
}
