import { signedIn } from '../connect.ts';
import { EXIT, leave, Outcome, UsageError } from '../exit.ts';
import type { GlobalOptions } from '../options.ts';
import { relative } from '../print.ts';
import { readText } from '../read-text.ts';
import { task, verb } from '../row.ts';
import { one, type Shown } from '../show.ts';

interface RestoreOptions {
  key?: string;
  signer?: string;
  publicUrl?: string;
  formerIsGone?: true;
  practice?: true;
  check?: string;
  report?: true;
}

/** On the machine of the new installation, whose settings are those of `rk serve`. */
export const restore = () =>
  task(
    verb(
      'restore',
      'restore a backup into a new installation, on its machine, before it runs; or practice it',
      'rk restore monday.backup --key restore.key --signer 3f2a-91c0-77de-0b14-a6e2-5d38',
    )
      .argument('[file]', 'the backup')
      .option('--key <file>', 'the private key in PEM; without it, the passphrase is prompted or read from standard input')
      .option('--signer <fingerprint>', 'who must have signed it, as `rk backup plan` of the original shows; any: whoever did')
      .option('--public-url <url>', 'another address than that of the original')
      .option('--former-is-gone', 'the installation of the backup will never run again: renewals go on at once')
      .option('--practice', 'to look at: the copy issues, renews, sends and delivers nothing, ever')
      .option('--check <folder>', 'with --practice: restore the newest backup of the folder beside everything, check all of it, remove it, and report')
      .option('--report', 'with --check: report to the service where you are signed in, which opens a notice when it failed or is old'),
    async ({ args: [file], options, rk }) => {
      if (options.check !== undefined && options.practice !== true) throw new UsageError('--check is for a practice restore: add --practice.');
      if ((file === undefined) === (options.check === undefined)) throw new UsageError('Name a backup, or a folder of backups with --practice --check.');
      if (options.practice && options.formerIsGone) throw new UsageError('A practice restore never renews: leave out --former-is-gone.');
      if (options.publicUrl !== undefined && !/^https?:\/\/[^/?#]+$/.test(options.publicUrl))
        throw new UsageError('--public-url is an address without a path, such as https://kettle.example.');
      try {
        return options.check === undefined ? await restored(file as string, options) : await checked(options.check, options, rk);
      } catch (error) {
        if (error instanceof Outcome || error instanceof UsageError) throw error;
        await leave(error);
        process.exit(); // as `rk serve`: nothing half-restored may keep the process active
      }
    },
    { signedIn: false },
  );

async function unlockOf(file: string, { key }: RestoreOptions) {
  const { backupLock } = await import('../../service/restore.ts');
  const lock = await backupLock(file);
  if (lock === 'recipient' && !key) throw new UsageError('This backup was locked for the owner of a key: give the private key with --key.');
  const { secret } = await import('../ask.ts');
  return lock === 'recipient' && key ? { privateKey: readText(key) } : { passphrase: await secret('Passphrase') };
}

async function restored(file: string, options: RestoreOptions): Promise<Shown> {
  const [{ readSettings }, { restoreBackup }] = await Promise.all([import('../../service/settings.ts'), import('../../service/restore.ts')]);
  const { formerIsGone, practice, signer, publicUrl } = options;
  const unlock = await unlockOf(file, options);
  const done = await restoreBackup(readSettings(process.env), file, unlock, {
    ...{ formerIsGone: formerIsGone === true, isPractice: practice === true, signer, publicUrl },
  });
  const next = done.isPractice
    ? 'It is for practice: it issues, renews, sends and delivers nothing.'
    : !done.isHeld
      ? 'Renewals go on when it starts.'
      : done.moves
        ? `The former installation (${done.formerUrl}) stops and transfers its newest tokens; then renewals go on here.`
        : `This copy stays on hold, and ${done.formerUrl} goes on. To move the grants here, run \`rk installation own\`.`;
  return one({ ...done }, [
    ['Restored', `${done.rows} rows of ${relative(done.madeAt)}, made by version ${done.version}`],
    ['Signed by', done.signer],
    ['Master key', done.masterKey],
    ['Public URL', done.isUrlFromBackup ? `${done.publicUrl} (from the backup; --public-url or RUSTY_KETTLE_PUBLIC_URL changes it)` : done.publicUrl],
    ['Next', `start it with \`rk serve\`. ${next}`],
  ]);
}

/** Restores the newest backup of a folder, looks at all of it, and leaves nothing behind. Ends with 1 where something is wrong. */
async function checked(folder: string, options: RestoreOptions, rk: GlobalOptions): Promise<Shown> {
  const [{ readSettings }, { newestBackup, practiceRestore }] = await Promise.all([import('../../service/settings.ts'), import('../../service/practice.ts')]);
  const call = options.report ? await signedIn(rk) : null;
  const file = await newestBackup(folder);
  const name = file.slice(file.lastIndexOf('/') + 1);
  let found: Awaited<ReturnType<typeof practiceRestore>>;
  try {
    found = await practiceRestore(readSettings(process.env), file, { unlock: await unlockOf(file, options), signer: options.signer });
  } catch (error) {
    if (!(error instanceof UsageError))
      await call?.('reportPractice', { body: { file: name, facts: null, failed: (error instanceof Error ? error.message : String(error)).slice(0, 600) } });
    throw error;
  }
  const { facts, faults } = found;
  await call?.('reportPractice', { body: { file: name, facts } });
  if (faults.length > 0) process.exitCode = EXIT.failed;
  const { counts, seals, definitions, orphans, results } = facts;
  return one({ file: name, good: faults.length === 0, faults, facts }, [
    ['Backup', `${name}, made ${relative(facts.made_at)} by version ${facts.version}`],
    ['Outcome', faults.length === 0 ? 'good: everything in it can be restored' : faults.join('\n')],
    [
      'Restored',
      `${facts.rows} rows: ${Object.entries(counts)
        .map(([kind, count]) => `${count} ${kind}`)
        .join(', ')}`,
    ],
    ['Sealed values', `${seals.opened} open, ${seals.failed.length} do not`],
    ['Definitions', `${definitions.read} read, ${definitions.failed.length} cannot be read`],
    [
      'Rows without owner',
      Object.entries(orphans)
        .map(([table, count]) => `${count} of ${table}`)
        .join(', ') || 'none',
    ],
    ['Results', results === null ? 'not in this backup' : `${results.whole} files whole, ${results.broken.length} with a gap`],
    ['Reported', call === null ? null : 'to the service'],
  ]);
}
