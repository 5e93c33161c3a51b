import { leave, Outcome, UsageError } from '../exit.ts';
import { relative } from '../print.ts';
import { readText } from '../read-text.ts';
import { task, verb } from '../row.ts';
import { one } from '../show.ts';

/** On the machine of the new installation, whose settings are those of `rk serve`. */
export const restore = () =>
  task(
    verb(
      'restore',
      'restore a backup into a new installation, on its machine, before it runs',
      'rk restore monday.backup --key restore.key --signer 3f2a-91c0-77de-0b14-a6e2-5d38',
    )
      .argument('<file>', 'the backup')
      .option('--key <file>', 'the private key in PEM; without it, the passphrase is prompted or read from standard input')
      .option('--signer <fingerprint>', 'who must have signed it, as `rk backup plan` of the original shows; any: whoever did')
      .option('--public-url <url>', 'another address than that of the original')
      .option('--former-is-gone', 'the installation of the backup will never run again: renewals go on at once'),
    async ({ args: [file], options: { key, formerIsGone, signer, publicUrl } }) => {
      const [{ readSettings }, { backupLock, restoreBackup }] = await Promise.all([import('../../service/settings.ts'), import('../../service/restore.ts')]);
      try {
        const lock = await backupLock(file);
        if (lock === 'recipient' && !key) throw new UsageError('This backup was locked for the owner of a key: give the private key with --key.');
        const { secret } = await import('../ask.ts');
        const unlock = lock === 'recipient' && key ? { privateKey: readText(key) } : { passphrase: await secret('Passphrase') };
        if (publicUrl !== undefined && !/^https?:\/\/[^/?#]+$/.test(publicUrl))
          throw new UsageError('--public-url is an address without a path, such as https://kettle.example.');
        const done = await restoreBackup(readSettings(process.env), file, unlock, { formerIsGone: formerIsGone === true, signer, publicUrl });
        const next = done.isHeld
          ? done.moves
            ? `The former installation (${done.formerUrl}) stops and transfers its newest tokens; then renewals go on here.`
            : `This copy stays on hold, and ${done.formerUrl} goes on. To move the grants here, run \`rk installation own\`.`
          : 'Renewals go on when it starts.';
        return one({ ...done }, [
          ['Restored', `${done.rows} rows of ${relative(done.madeAt)}, made by version ${done.version}`],
          ['Signed by', done.signer],
          ['Master key', done.masterKey],
          ['Public URL', done.isUrlFromBackup ? `${done.publicUrl} (from the backup; --public-url or RUSTY_KETTLE_PUBLIC_URL changes it)` : done.publicUrl],
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
