import type { Command } from 'commander';
import { globals, signedIn } from '../connect.ts';
import { printJson, printList, relative, say } from '../print.ts';

/** What can be called on a connection, what was saved, and what is left of its quotas. */
export function connectionCalls(noun: Command): void {
  noun
    .command('calls')
    .description('operations of the API with parameters and needed scopes, and saved calls')
    .argument('<name>')
    .action(async (name: string, _options: object, command: Command) => {
      const all = globals(command);
      const offered = await (await signedIn(all))('offeredCalls', { params: { connection: name } });
      if (all.output === 'json') return printJson(offered);
      await printList(
        all,
        offered.operations,
        {
          OPERATION: (one) => one.id,
          CALL: (one) => `${one.method} ${one.path}`,
          TAKES: (one) => one.parameters.map((parameter) => `${parameter.name}${parameter.required ? '' : '?'}`).join(', ') || '\u2013',
          NEEDS: (one) => one.needs.map((list) => list.join(' + ')).join(' or ') || '\u2013',
          ALLOWED: (one) => (one.allowed ? 'yes' : 'no'),
          COSTS: (one) => String(one.weight),
        },
        'The definition names no operations; any path can be called all the same.',
      );
      say(all, '');
      await printList(
        all,
        offered.saved,
        {
          SAVED: (one) => one.name,
          CALL: (one) => `${one.call.method} ${one.call.path}`,
          'FILLED IN': (one) =>
            one.parameters.map((parameter) => (parameter.value === null ? parameter.name : `${parameter.name}=${parameter.value}`)).join(', ') || '\u2013',
          BY: (one) => `${one.saved_by}, ${relative(one.saved_at)}`,
        },
        `No calls are saved yet. Save one: rk call ${name} GET /path --save NAME`,
      );
    });
  noun
    .command('forget-call')
    .description('remove a saved call')
    .argument('<name>')
    .argument('<call>', 'the name under which it was saved')
    .option('--yes', 'do not ask')
    .action(async (name: string, called: string, options: { yes?: boolean }, command: Command) => {
      const all = globals(command);
      const { confirmed } = await import('../ask.ts');
      if (!(await confirmed(`Remove the saved call ${called} of ${name}? Everyone who uses it loses it.`, options.yes))) return;
      await (await signedIn(all))('removeCall', { params: { connection: name, call: called } });
      say(all, `Removed ${called}.`);
    });
  noun
    .command('quota')
    .description('what is left of the provider\u2019s quotas, as far as it passed here')
    .argument('<name>')
    .action(async (name: string, _options: object, command: Command) => {
      const all = globals(command);
      const { items, says } = await (await signedIn(all))('showQuota', { params: { connection: name } });
      await printList(
        all,
        items,
        {
          API: (one) => one.api,
          WINDOW: (one) => one.says,
          OF: (one) => (one.caller === null ? `the ${one.of}` : `${one.caller}\u2019s share`),
          LEFT: (one) => String(one.left),
          'BEGINS ANEW': (one) => relative(one.resets_at),
          WAITS: (one) => (one.held_until ? `until ${relative(one.held_until)}: the provider asked for it` : '\u2013'),
        },
        says,
      );
      if (items.length > 0) say(all, `\n${says}`);
    });
}
