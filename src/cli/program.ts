import { Command, type CommandUnknownOpts } from '@commander-js/extra-typings';
import { account } from './commands/account.ts';
import { activity } from './commands/activity.ts';
import { backup } from './commands/backup.ts';
import { bundle } from './commands/bundle.ts';
import { call } from './commands/call.ts';
import { caller } from './commands/caller.ts';
import { campaign } from './commands/campaign.ts';
import { channel } from './commands/channel.ts';
import { client } from './commands/client.ts';
import { completion } from './commands/completion.ts';
import { connection } from './commands/connection.ts';
import { identityProvider } from './commands/identity-provider.ts';
import { invitation } from './commands/invitation.ts';
import { job } from './commands/job.ts';
import { keys } from './commands/keys.ts';
import { notice } from './commands/notice.ts';
import { operator } from './commands/operator.ts';
import { person } from './commands/person.ts';
import { privilege } from './commands/privilege.ts';
import { provider } from './commands/provider.ts';
import { rehearsal, rehearse } from './commands/rehearsal.ts';
import { restore } from './commands/restoring.ts';
import { installation, log, replica } from './commands/running.ts';
import { serve, standin } from './commands/serving.ts';
import { signIn, signOut } from './commands/sign-in.ts';
import { calendar, upcoming } from './commands/upcoming.ts';
import { status, token } from './commands/using.ts';
import { OUTPUTS, oneOf } from './options.ts';

/** In the order of the work. */
const TASKS = {
  'Run:': [serve, standin, installation, replica, log, keys, backup, restore],
  'Set up:': [signIn, signOut, bundle, account, operator, identityProvider, provider, client, connection, caller, invitation, campaign],
  'Use:': [token, call, job, person],
  'Watch:': [status, notice, channel, upcoming, calendar, rehearse, rehearsal, privilege, activity],
  'Shell:': [completion],
};

/** Every command is declared here at once; what it needs is loaded when it runs, so that `rk --help` is quick. */
export function program(): CommandUnknownOpts {
  const rk = new Command('rk')
    .description('Rusty Kettle: set up OAuth connections once; their tokens are renewed for your integrations.')
    .option('--url <address>', 'the service; default: RUSTY_KETTLE_URL, or where you signed in')
    .addOption(oneOf('--output <form>', 'table for people, json or yaml for programs', OUTPUTS).default('table' as const))
    .addHelpText(
      'after',
      '\nExit codes: 0 done, 1 failed, 2 wrong usage, 3 sign in first, 4 not found, 5 conflict, 6 try again later, 7 action needed.\nAn option with several values takes them both ways: --scope a b, and --scope a --scope b.',
    )
    .showHelpAfterError('(rk --help lists the commands)');
  for (const [task, commands] of Object.entries(TASKS)) for (const command of commands) rk.addCommand(command().helpGroup(task));
  settle(rk as unknown as CommandUnknownOpts);
  return rk as unknown as CommandUnknownOpts;
}

/** What `rk` is set to holds for every command below it, and nothing ends the process automatically. */
function settle(command: CommandUnknownOpts): void {
  command.exitOverride();
  for (const below of command.commands) settle(below.copyInheritedSettings(command));
}
