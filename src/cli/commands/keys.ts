import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import type { KeysShown } from '../../api/keys.ts';
import { UsageError } from '../exit.ts';
import { whole } from '../options.ts';
import { relative } from '../print.ts';
import { noun, operation, task, verb } from '../row.ts';
import { line, one, type Shown, table } from '../show.ts';
import { written } from '../written.ts';

const shown = (all: KeysShown): Shown => {
  const { reseal } = all;
  const head = one(all, [
    ['Master key', all.master_key],
    ['Changed', all.master_key_changed_at && relative(all.master_key_changed_at)],
    ['Values without key', all.without_key > 0 ? `${all.without_key}: restore database and keys from one backup` : null],
    [
      'Re-sealing',
      reseal && `${reseal.state === 'done' ? 'done' : 'running'}, ${reseal.done} of ${reseal.total}, by ${reseal.started_by} ${relative(reseal.started_at)}`,
    ],
  ]);
  const columns = {
    'DATA KEY': (key: KeysShown['data_keys'][number]) => key.id,
    STATE: (key: KeysShown['data_keys'][number]) => (key.seals ? 'seals' : 'only opens'),
    VALUES: (key: KeysShown['data_keys'][number]) => String(key.values),
    MADE: (key: KeysShown['data_keys'][number]) => relative(key.created_at),
    'WRAPPED BY': (key: KeysShown['data_keys'][number]) => key.master_key,
  };
  return { ...head, parts: [...head.parts, table(all.data_keys, columns, 'No data keys.')] };
};

export const keys = () =>
  noun('keys', 'the keys under which secrets are sealed', [
    operation(verb('show', 'show which key seals how many values', 'rk keys show'), { calls: 'showKeys', shows: shown }),
    operation(verb('rotate', 'make a new data key; everything is re-sealed under it in the background', 'rk keys rotate --yes'), {
      calls: 'rotateKeys',
      asks: () => 'Make a new data key, and re-seal everything under it?',
      shows: shown,
    }),
    task(
      verb('make', 'make a new master key in a new file, on this machine', 'rk keys make --to master.key').requiredOption('--to <file>', 'the new file'),
      async ({ options: { to } }) => {
        const { randomBytes } = await import('node:crypto');
        written(to, randomBytes(32).toString('base64'));
        return line(`Master key written to ${to}. Keep a copy away from this machine. To change to it, see docs/how-to/change-keys.md.`, { file: to });
      },
      { signedIn: false },
    ),
    task(
      verb('split', 'split a master key into shares for several people, on this machine', 'rk keys split master.key --shares 5 --needed 3 --to shares')
        .argument('<file>', 'the file with the key')
        .option('--shares <count>', 'how many shares are made', whole('--shares'), 5)
        .option('--needed <count>', 'how many of them give the key', whole('--needed'), 3)
        .requiredOption('--to <folder>', 'the folder for the files'),
      async ({ args: [file], options: { shares, needed, to } }) => {
        if (needed < 2 || needed > shares || shares > 255) throw new UsageError('--needed must be at least 2 and at most --shares; --shares at most 255.');
        const key = Buffer.from(readFileSync(file, 'utf8').trim(), 'base64');
        if (key.length !== 32) throw new UsageError(`${file} does not hold 32 bytes in base64.`);
        const { split } = await import('shamir-secret-sharing');
        const { mkdirSync } = await import('node:fs');
        mkdirSync(to, { recursive: true, mode: 0o700 });
        const files = (await split(new Uint8Array(key), shares, needed)).map((share, at) => {
          const path = join(to, `share-${at + 1}-of-${shares}.key`);
          written(path, Buffer.from(share).toString('base64'));
          return path;
        });
        return line(`${files.length} shares written to ${to}; any ${needed} give the key. Give each to another person, then delete ${file}.`, { files });
      },
      { signedIn: false },
    ),
  ]);
