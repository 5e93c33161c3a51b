import { writeFileSync } from 'node:fs';
import { EXIT, Outcome } from '../exit.ts';
import { print, relative } from '../print.ts';
import { agreed, noun, operation, task, verb } from '../row.ts';
import { failedWith, line, list, one, table, text } from '../show.ts';
import { draftParts, previewParts, shownProvider } from '../views/provider.ts';
import { readText, sourceOf, withSources } from './provider-source.ts';

/** An error in a definition names its file. */
async function ofFile<T>(file: string, work: Promise<T>): Promise<T> {
  return work.catch((error: unknown) => {
    const problem = (error as { problem?: { code: string; detail?: string | undefined } }).problem;
    if (problem?.code.startsWith('DEFINITION_')) problem.detail = [`File ${file}.`, problem.detail].filter(Boolean).join(' ');
    throw error;
  });
}

const document = async (file: string): Promise<string> => (file === '-' ? (await import('../ask.ts')).standardInput() : readText(file));

export const provider = () =>
  noun('provider', 'who issues the tokens, with the APIs they open', [
    task(
      verb('add', 'add a provider from its definition file (YAML or JSON; - reads standard input)', 'rk provider add eelgrass.yaml').argument('<file>'),
      async ({ args: [file], call }) => {
        const added = await ofFile(file, call('addProvider', { body: { document: await document(file) } }));
        return one(added, [
          ['Added', added.title],
          ['Name', added.name],
          ['Next', `rk client add ${added.name} NAME`],
        ]);
      },
    ),
    task(
      verb('check', 'check a definition file; nothing is saved', 'rk provider check eelgrass.yaml --ask-endpoints')
        .argument('<file>')
        .option('--ask-endpoints', 'also send requests to its endpoints, without any secret'),
      async ({ args: [file], options, call }) => {
        const body = { document: readText(file), ask_endpoints: options.askEndpoints };
        const checked = await ofFile(file, call('checkProvider', { body }));
        return one(checked, [
          ['Good', checked.definition.title],
          ['Scopes', String(checked.definition.scopes.length)],
          ...checked.endpoints.map((each): [string, string] => [each.good ? 'Good' : 'Check', `${each.endpoint}: ${each.says}`]),
          ['Note', checked.exists ? 'A provider with this name exists.' : null],
        ]);
      },
    ),
    task(
      withSources(
        verb(
          'draft',
          'draft a definition from an issuer, an OpenAPI document or a short form, with the source of every value and what is missing',
          'rk provider draft --issuer id.eelgrass.example --write eelgrass.yaml',
        ).argument('[file]', 'or a definition file'),
      ).option('--write <file>', 'write the definition to this file, to review and add'),
      async ({ args: [file], options, call }) => {
        const drafted = await call('draftProvider', { body: sourceOf(options, file) });
        if (options.write !== undefined) writeFileSync(options.write, drafted.document);
        const written = options.write === undefined ? [] : [text(`Written    ${options.write}. Next: rk provider add ${options.write}`)];
        const shown = { data: drafted, parts: [...draftParts(drafted), ...written] };
        return drafted.ready ? shown : failedWith(shown, '');
      },
    ),
    task(
      verb(
        'change',
        'change a definition: shows the effects on clients and connections, then asks; the old version is kept',
        'rk provider change eelgrass.yaml',
      )
        .argument('<file>')
        .option('--yes', 'do not ask'),
      async ({ args: [file], options, rk, call }) => {
        const body = { document: readText(file) };
        const { definition } = await ofFile(file, call('checkProvider', { body }));
        const params = { provider: definition.name };
        const preview = await call('previewProvider', { params, body });
        if (preview.changes.length === 0 && preview.refused.length === 0) return { data: preview, parts: previewParts(preview) };
        await print(rk, { parts: previewParts(preview) });
        if (preview.refused.length > 0) throw new Outcome(EXIT.conflict, preview.refused.join('\n'));
        if (!(await agreed(options, `Save this as the new version of ${definition.title}?`))) return undefined;
        const saved = await call('changeProvider', { params, body: { ...body, revision: preview.revision } });
        return line(`\nSaved as version ${saved.revision}. The old one is kept: rk provider versions ${saved.name}`, saved);
      },
    ),
    operation(
      verb('versions', 'list the versions of a definition', 'rk provider versions eelgrass')
        .argument('<provider>')
        .option('--write <folder>', 'write each as a file'),
      {
        calls: 'listVersions',
        input: ({ args: [provider] }) => ({ params: { provider } }),
        shows: ({ items }, { args: [name], options }) => {
          if (options.write !== undefined) for (const each of items) writeFileSync(`${options.write}/${name}-${each.digest.slice(0, 12)}.yaml`, each.document);
          return list(
            items,
            {
              SAVED: (each) => each.saved_at,
              BY: (each) => each.saved_by,
              DIGEST: (each) => each.digest.slice(0, 12),
              '': (each) => (each.current ? 'current' : ''),
            },
            'No versions.',
          );
        },
      },
    ),
    task(
      verb('schema', 'print the JSON Schema of definition files, for an editor', 'rk provider schema > definition.schema.json'),
      async () => {
        const { definitionSchema } = await import('../../api/definition-schema.ts');
        const schema = definitionSchema();
        return line(JSON.stringify(schema, null, 2), schema);
      },
      { signedIn: false },
    ),
    operation(
      verb('scopes', 'show the scopes with the least privilege that these API operations need', 'rk provider scopes eelgrass listTables')
        .argument('<provider>')
        .argument('<operations...>'),
      {
        calls: 'chooseScopes',
        input: ({ args: [provider, operations] }) => ({ params: { provider }, body: { operations } }),
        shows: (answer) => ({
          data: { items: answer.chosen, scopes: answer.scopes },
          parts: [
            table(
              answer.chosen,
              {
                OPERATION: (each) => each.operation,
                SCOPES: (each) => each.scopes.join(' ') || 'none',
                'INSTEAD OF': (each) =>
                  each.alternatives
                    .filter((other) => other.join() !== each.scopes.join())
                    .map((other) => other.join(' '))
                    .join(' | '),
              },
              'The definition knows none of these operations.',
            ),
            text(`Scopes: ${answer.scopes.join(' ')}`),
          ],
        }),
      },
    ),
    operation(verb('list', 'list providers', 'rk provider list'), {
      calls: 'listProviders',
      shows: ({ items }) =>
        list(
          items,
          {
            NAME: (each) => each.name,
            TITLE: (each) => each.title,
            CLIENTS: (each) => String(each.clients),
            CONNECTIONS: (each) => String(each.connections),
            ADDED: (each) => relative(each.added_at),
          },
          'No providers yet. Add one: rk provider add FILE',
        ),
    }),
    operation(verb('show', 'show a provider and its definition', 'rk provider show eelgrass').argument('<provider>'), {
      calls: 'showProvider',
      input: ({ args: [provider] }) => ({ params: { provider } }),
      shows: shownProvider,
    }),
    operation(verb('remove', 'remove a provider that has no clients', 'rk provider remove eelgrass').argument('<provider>'), {
      calls: 'removeProvider',
      asks: ({ args: [name] }) => `Remove the provider ${name}?`,
      input: ({ args: [provider] }) => ({ params: { provider } }),
      shows: (_done, { args: [name] }) => line(`Removed ${name}.`),
    }),
  ]);
