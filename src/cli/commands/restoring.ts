import { leave, Outcome, UsageError } from '../exit.ts';
import { relative } from '../print.ts';
import { readText } from '../read-text.ts';
import { task, verb } from '../row.ts';
import { one } from '../show.ts';

/** On the machine of the new installation, whose settings are those of `rk serve`. */
export const restore = () =>
  task(
    verb('restore', 'restore a backup into a new installation, on its machine, before it runs', 'rk restore monday.backup --key restore.key')
      .argument('<file>', 'the backup')
      .option('--key <file>', 'the private key in PEM; without it, the passphrase is prompted or read from standard input')
      .option('--former-is-gone', 'the installation of the backup will never run again: renewals go on at once'),
    async ({ args: [file], options: { key, formerIsGone } }) => {
      const [{ readSettings }, { backupLock, restoreBackup }] = await Promise.all([import('../../service/settings.ts'), import('../../service/restore.ts')]);
      try {
        const lock = await backupLock(file);
        if (lock === 'recipient' && !key) throw new UsageError('This backup was locked for the owner of a key: give the private key with --key.');
        const { secret } = await import('../ask.ts');
        const unlock = lock === 'recipient' && key ? { privateKey: readText(key) } : { passphrase: await secret('Passphrase') };
        const done = await restoreBackup(readSettings(process.env), file, unlock, { formerIsGone: formerIsGone === true });
        const next = done.isHeld
          ? `Renewals wait until the former installation (${done.formerUrl}) answers that it has stopped, or until you run \`rk installation own\`.`
          : 'Renewals go on when it starts.';
        return one({ ...done }, [
          ['Restored', `${done.rows} rows of ${relative(done.madeAt)}, made by version ${done.version}`],
          ['Master key', done.masterKey],
          ['Next', `start it with \`rk serve\`. ${next}`],
        ]);
      } catch (error) {
        if (error instanceof Outcome || error instanceof UsageError) throw error;
        await leave(error);
        process.exit(); // as `rk serve`: nothing half-restored may keep the process active
      }
    },
    { signedIn: false },
  );
