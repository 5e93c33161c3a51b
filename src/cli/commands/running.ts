import type { Command } from 'commander';
import { globals, signedIn } from '../connect.ts';
import { printList, printOne, relative, say } from '../print.ts';

/** `rk installation`, `rk replica`: how the service runs, and who owns the grants. */
export function running(rk: Command): void {
  const installation = rk.command('installation').description('this installation as a whole: does it own the grants?');
  const showState = (all: ReturnType<typeof globals>, state: { held: boolean; why: string | null; held_at: string | null }) =>
    printOne(all, state, [
      ['Renewals', state.held ? `held since ${relative(state.held_at)}` : 'go on'],
      ['Why', state.why],
      ['What to do', state.held ? 'make certain that no other copy renews these grants, then: rk installation own' : null],
    ]);
  installation
    .command('show')
    .description('are renewals held, because a second installation may renew the same grants?')
    .action(async (_options: object, command: Command) => {
      const all = globals(command);
      showState(all, await (await signedIn(all))('showInstallation'));
    });
  installation
    .command('own')
    .description('say that this installation owns the grants: renewals go on')
    .option('--yes', 'do not ask')
    .action(async (options: { yes?: boolean }, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      const { confirmed } = await import('../ask.ts');
      const question =
        'Is it certain that no other installation renews these grants? Two of them end each other\u2019s refresh tokens, and every connection needs a person again.';
      if (!(await confirmed(question, options.yes))) return;
      showState(all, await call('ownInstallation'));
    });

  const replica = rk.command('replica').description('the running services over one database');
  replica
    .command('list')
    .description('list replicas of the last day')
    .action(async (_options: object, command: Command) => {
      const all = globals(command);
      const { items } = await (await signedIn(all))('listReplicas');
      await printList(
        all,
        items,
        {
          INSTANCE: (one) => one.instance,
          STATE: (one) => (one.alive ? 'alive' : one.roles.includes('stopped') ? 'stopped' : 'silent'),
          START: (one) => String(one.incarnation),
          SINCE: (one) => relative(one.started_at),
          SEEN: (one) => relative(one.seen_at),
        },
        'No replica was seen within a day.',
      );
    });
  replica
    .command('adopt')
    .description('save the answers that a dead replica left in its data folder')
    .argument('<folder>', 'its data folder, on the machine of the service')
    .action(async (folder: string, _options: object, command: Command) => {
      const all = globals(command);
      const adopted = await (await signedIn(all))('adoptReplica', { body: { folder } });
      printOne(all, adopted, [
        ['Instance', adopted.instance],
        ['Answers saved', String(adopted.answers_saved)],
        ['Renewals freed', String(adopted.renewals_freed)],
      ]);
      say(all, 'The other replicas know that it holds nothing any more.');
    });
}
