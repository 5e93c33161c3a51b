import type { ComparedBundle } from '../../api/bundles.ts';
import { fieldValueText } from '../../api/field-value.ts';
import { counted } from '../../api/vocabulary.ts';
import { EXIT, Outcome } from '../exit.ts';
import { readText } from '../read-text.ts';
import { noun, task, verb } from '../row.ts';
import { failedWith, line, type Shown, table, text } from '../show.ts';
import { written } from '../written.ts';

type Item = ComparedBundle['items'][number];
const STATES: Record<Item['state'], string> = {
  new: 'new',
  changed: 'changed',
  same: 'same',
  conflict: 'CONFLICT',
  removed: 'not in the bundle any more',
  only_here: 'only here',
};
const short = (value: unknown): string => {
  const shown = fieldValueText(value);
  return shown.length > 60 ? `${shown.slice(0, 59)}\u2026` : shown;
};
const isDifferent = (one: Item): boolean => one.state !== 'same' && one.state !== 'only_here';

function compared(all: ComparedBundle): Shown {
  const rows = all.items.filter(isDifferent).flatMap((one) => {
    const head = { what: `${one.kind} ${one.name}`, state: STATES[one.state], field: '', here: '', bundle: one.note ?? '' };
    const fields = one.fields.map((field) => ({ what: '', state: '', field: field.path, here: short(field.here), bundle: short(field.bundle) }));
    return one.note === null && fields[0] ? [{ ...fields[0], what: head.what, state: head.state }, ...fields.slice(1)] : [head, ...fields];
  });
  const { counts } = all;
  const sum = `${counts.new} new, ${counts.changed} changed, ${counts.conflict} in conflict, ${counts.removed} not in the bundle any more, ${counts.same} the same, ${counts.only_here} only here.`;
  const columns = {
    OBJECT: (row: (typeof rows)[number]) => row.what,
    STATE: (row: (typeof rows)[number]) => row.state,
    FIELD: (row: (typeof rows)[number]) => row.field,
    HERE: (row: (typeof rows)[number]) => row.here,
    BUNDLE: (row: (typeof rows)[number]) => row.bundle,
  };
  return {
    data: all,
    parts: [
      table(rows, columns, 'No differences.'),
      text(sum),
      ...(all.reconnect.length > 0 ? [text(`To connect after an import: ${all.reconnect.join(', ')}`)] : []),
      ...(all.problems.length > 0 ? [table(all.problems, { FILE: (one) => one.path, 'TO FIX': (one) => one.why }, '')] : []),
    ],
  };
}

const folderAndVariables = (command: ReturnType<typeof verb>) =>
  command.argument('<folder>', 'the folder with the files').option('--variables <file>', 'YAML with a value for each variable in the files');

export const bundle = () =>
  noun('bundle', 'providers, clients, connections, callers and jobs as files for version control', [
    task(
      folderAndVariables(verb('export', 'write everything but the secrets as YAML; variables in files that exist stay', 'rk bundle export set-up')),
      async ({ args: [folder], options: { variables }, call }) => {
        const { readVariables, writeFolder } = await import('../bundle-folder.ts');
        const { files } = await call('exportBundle');
        const { written: count, removed } = writeFolder(folder, files, readVariables(variables));
        return line(`${counted(files.length - 1, 'object')} in ${folder}: ${counted(count, 'file')} written, ${removed} removed.`, {
          folder,
          files: files.length,
          written: count,
          removed,
        });
      },
    ),
    task(
      folderAndVariables(verb('compare', 'show what an import would change, field by field', 'rk bundle compare set-up --check')).option(
        '--check',
        'end with 1 where there is any difference: for a job that watches',
      ),
      async ({ args: [folder], options: { variables, check }, call }) => {
        const { readFolder, readVariables } = await import('../bundle-folder.ts');
        const all = await call('compareBundle', { body: { files: readFolder(folder), variables: readVariables(variables) } });
        const shown = compared(all);
        if (all.problems.length > 0) return failedWith(shown, `The bundle has ${counted(all.problems.length, 'problem')}.`);
        return check && all.items.some(isDifferent) ? failedWith(shown, 'The folder and the installation differ.') : shown;
      },
    ),
    task(
      folderAndVariables(verb('import', 'show what changes, ask, and bring the installation to what the files say', 'rk bundle import set-up --yes'))
        .option('--overwrite', 'take the bundle where something was edited here since the last import')
        .option('--remove', 'remove what came from a bundle and is not in this one')
        .option('--yes', 'do not ask'),
      async ({ args: [folder], options: { variables, overwrite, remove, yes }, rk, call }) => {
        const { readFolder, readVariables } = await import('../bundle-folder.ts');
        const given = { files: readFolder(folder), variables: readVariables(variables) };
        const all = await call('compareBundle', { body: given });
        const shown = compared(all);
        if (all.problems.length > 0) return failedWith(shown, `The bundle has ${counted(all.problems.length, 'problem')}. Nothing was imported.`);
        const differ = all.items.filter((one) => isDifferent(one) && (one.state !== 'removed' || remove));
        if (differ.length === 0) return shown;
        if (!yes) {
          const { print } = await import('../print.ts');
          await print(rk, shown);
        }
        const { confirmed } = await import('../ask.ts');
        if (!(await confirmed(`Import ${counted(differ.length, 'object')}?`, yes))) return undefined;
        const done = await call('importBundle', { body: { ...given, digest: all.digest, overwrite: overwrite === true, remove: remove === true } });
        const note = done.reconnect.length > 0 ? ` To connect now: ${done.reconnect.join(', ')}.` : '';
        return line(`Imported ${counted(differ.length, 'object')}.${note}`, done);
      },
    ),
    task(
      verb(
        'export-secrets',
        'write secrets of clients and keys of callers as JWE; the passphrase is prompted, or read from standard input',
        'rk bundle export-secrets secrets.jwe --recipient restore.pub',
      )
        .argument('<file>')
        .option('--recipient <file>', 'a public key in PEM'),
      async ({ args: [file], options: { recipient }, call }) => {
        const { secret } = await import('../ask.ts');
        const lock = recipient ? { recipient: readText(recipient) } : { passphrase: await secret('Passphrase (12 characters or more)') };
        const { jwe } = await call('exportBundleSecrets', { body: lock });
        written(file, jwe);
        return line(`Secrets written to ${file}, encrypted.`, { file });
      },
    ),
    task(
      verb(
        'import-secrets',
        'import secrets of clients and keys of callers that exist here and have none',
        'rk bundle import-secrets secrets.jwe --key restore.key',
      )
        .argument('<file>')
        .option('--key <file>', 'the private key in PEM; without it, the passphrase is prompted or read from standard input'),
      async ({ args: [file], options: { key }, call }) => {
        const { secret } = await import('../ask.ts');
        const unlock = key ? { private_key: readText(key) } : { passphrase: await secret('Passphrase') };
        const done = await call('importBundleSecrets', { body: { jwe: readText(file), ...unlock } });
        const said = [
          `Added: ${done.added.join(', ') || 'nothing'}.`,
          ...(done.present.length > 0 ? [`Left as they are: ${done.present.join(', ')}.`] : []),
          ...(done.missing.length > 0 ? [`Not here: ${done.missing.join(', ')}. Import the bundle first.`] : []),
        ];
        if (done.added.length === 0 && done.missing.length > 0) throw new Outcome(EXIT.failed, said.join('\n'));
        return line(said.join('\n'), done);
      },
    ),
  ]);
