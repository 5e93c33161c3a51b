import { createWriteStream } from 'node:fs';
import { attempts } from '../../api/attempts.ts';
import type { Backup, BackupPlanShown } from '../../api/backups.ts';
import type { ApiClient } from '../../api/client.ts';
import { EXIT, Outcome } from '../exit.ts';
import type { GlobalOptions } from '../options.ts';
import { whole } from '../options.ts';
import { relative } from '../print.ts';
import { readText } from '../read-text.ts';
import { noun, operation, task, verb } from '../row.ts';
import { line, list, one, type Shown } from '../show.ts';

const WAIT_MS = 6 * 3_600_000;
const size = (bytes: number): string => (bytes < 1_000_000 ? `${Math.ceil(bytes / 1_000)} kB` : `${(bytes / 1_000_000).toFixed(1)} MB`);
const shown = (each: Backup): Shown =>
  one(each, [
    ['Backup', each.id],
    ['State', each.state],
    ['Locked', each.lock === 'passphrase' ? 'with a passphrase' : 'for the owner of a key'],
    ['File', each.file],
    ['Size', size(each.bytes)],
    ['Rows', String(each.rows)],
    ['Started', `${relative(each.started_at)} by ${each.requested_by}`],
    ['Note', each.says],
  ]);
const planShown = (each: BackupPlanShown): Shown =>
  one(each, [
    ['Every', each.plan ? `${each.plan.every_hours} hours` : 'no schedule. Set one: rk backup schedule --every 24 --recipient restore.pub'],
    ['Kept', each.plan && String(each.plan.keep)],
    ['Results of jobs', each.plan && (each.plan.results ? 'included' : 'left out')],
    ['Last good one', each.last_good_at ? relative(each.last_good_at) : 'none'],
    ['Next', each.next_at && relative(each.next_at)],
    ['Folder', each.folder],
    ['Signer', `${each.signer} (keep it with the private key: rk restore --signer)`],
  ]);
async function untilDone(call: ApiClient, begun: Backup): Promise<Backup> {
  for await (const _ of attempts({ withinMs: WAIT_MS, everyMs: 500 })) {
    const now = await call('showBackup', { params: { backup: begun.id } });
    if (now.state === 'failed') throw new Outcome(EXIT.failed, `The backup failed. ${now.says}\nWhat to do: fix the reason and start it again.`);
    if (now.state === 'done') return now;
  }
  throw new Outcome(EXIT.later, 'The backup is not done after six hours.\nWhat to do: look at it with `rk backup list`.');
}

async function fetched(rk: GlobalOptions, backup: Backup, to: string): Promise<void> {
  const { download } = await import('../connect.ts');
  const [{ rename }, { Readable }, { pipeline }] = await Promise.all([import('node:fs/promises'), import('node:stream'), import('node:stream/promises')]);
  const bytes = Readable.fromWeb((await download(rk, `/api/v1/backups/${backup.id}/file`)) as never);
  if (to === '-') return pipeline(bytes, process.stdout, { end: false });
  await pipeline(bytes, createWriteStream(`${to}.part`, { mode: 0o600 }));
  await rename(`${to}.part`, to);
}

export const backup = () =>
  noun('backup', 'encrypted copies of everything, made while the service runs', [
    task(
      verb('add', 'back up; the passphrase is prompted, or read from standard input', 'rk backup add --recipient restore.pub --to monday.backup')
        .option('--recipient <file>', 'a public key in PEM: only whoever has the private key can restore')
        .option('--to <file>', 'fetch the file to here; -: to standard output')
        .option('--without-results', 'leave out what jobs collected')
        .option('--move', 'hold renewals here first: to move to another installation'),
      async ({ options: { recipient, to, withoutResults, move }, rk, call }) => {
        const { secret } = await import('../ask.ts');
        const lock = recipient ? { recipient: readText(recipient) } : { passphrase: await secret('Passphrase (12 characters or more)') };
        const begun = await call('startBackup', { body: { ...lock, results: !withoutResults, move: move === true } });
        const done = await untilDone(call, begun);
        if (to) await fetched(rk, done, to);
        if (to === '-') return undefined;
        return to ? line(`Backup written to ${to}: ${done.rows} rows, ${size(done.bytes)}.${done.says ? ` ${done.says}` : ''}`, done) : shown(done);
      },
    ),
    operation(verb('list', 'list backups, newest first', 'rk backup list'), {
      calls: 'listBackups',
      shows: ({ items }) =>
        list(
          items,
          {
            ID: (each) => each.id,
            STATE: (each) => each.state,
            KIND: (each) => each.kind,
            STARTED: (each) => relative(each.started_at),
            SIZE: (each) => size(each.bytes),
            ROWS: (each) => String(each.rows),
            FILE: (each) => each.file,
          },
          'No backups. Make one: rk backup add --to FILE',
        ),
    }),
    operation(verb('show', 'show a backup', 'rk backup show 01890000-0000-7000-8000-000000000000').argument('<backup>'), {
      calls: 'showBackup',
      input: ({ args: [id] }) => ({ params: { backup: id } }),
      shows: shown,
    }),
    task(
      verb('get', 'fetch the file of a backup', 'rk backup get 01890000-0000-7000-8000-000000000000 --to monday.backup')
        .argument('<backup>')
        .requiredOption('--to <file>', 'the file; -: standard output'),
      async ({ args: [id], options: { to }, rk, call }) => {
        const found = await call('showBackup', { params: { backup: id } });
        await fetched(rk, found, to);
        return to === '-' ? undefined : line(`Backup written to ${to}.`, found);
      },
    ),
    operation(verb('remove', 'delete a backup with its file', 'rk backup remove 01890000-0000-7000-8000-000000000000 --yes').argument('<backup>'), {
      calls: 'removeBackup',
      input: ({ args: [id] }) => ({ params: { backup: id } }),
      asks: () => 'Delete this backup and its file?',
      shows: () => line('Backup deleted.'),
    }),
    operation(verb('plan', 'show the schedule, and the last good backup', 'rk backup plan'), { calls: 'showBackupPlan', shows: planShown }),
    operation(
      verb('schedule', 'back up on a schedule, to a public key', 'rk backup schedule --every 24 --keep 14 --recipient restore.pub')
        .option('--every <hours>', 'hours between backups', whole('--every'), 24)
        .option('--keep <count>', 'how many are kept', whole('--keep'), 14)
        .requiredOption('--recipient <file>', 'a public key in PEM')
        .option('--results', 'with what jobs collected'),
      {
        calls: 'setBackupPlan',
        input: ({ options: { every, keep, recipient, results } }) => ({
          body: { every_hours: every, keep, recipient: readText(recipient), results: results === true },
        }),
        shows: planShown,
      },
    ),
    operation(verb('unschedule', 'end the schedule; backups that exist stay', 'rk backup unschedule --yes'), {
      calls: 'removeBackupPlan',
      asks: () => 'End the schedule of backups?',
      shows: () => line('No more scheduled backups.'),
    }),
  ]);
