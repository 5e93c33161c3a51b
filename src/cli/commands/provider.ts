import { readFileSync, writeFileSync } from 'node:fs';
import type { Command } from 'commander';
import type { AnswerOf, BodyOf } from '../../api/operations.ts';
import { globals, signedIn } from '../connect.ts';
import { EXIT, Outcome, UsageError } from '../exit.ts';
import type { GlobalOptions } from '../options.ts';
import { printJson, printList, printOne, relative, say } from '../print.ts';
import { readPairs } from './client.ts';

type Drafted = AnswerOf<'draftProvider'>;
type Source = {
  issuer?: string;
  openapi?: string;
  authorizationUrl?: string;
  tokenUrl?: string;
  apiCall?: string;
  scopes?: string;
  method?: 'none';
  scopeDelimiter?: ',';
  authorizationParameter?: string[];
  tokenParameter?: string[];
  name?: string;
  title?: string;
};

const readText = (file: string): string => {
  try {
    return readFileSync(file, 'utf8');
  } catch {
    throw new UsageError(`The file ${file} cannot be read.`);
  }
};

/** One of the four ways in, from the options. @throws {UsageError} */
function sourceOf(options: Source, file?: string): BodyOf<'draftProvider'> {
  const named = { ...(options.name && { name: options.name }), ...(options.title && { title: options.title }) };
  const given = [file, options.issuer, options.openapi, options.tokenUrl].filter((one) => one !== undefined);
  if (given.length !== 1)
    throw new UsageError('Give one of: --issuer ADDRESS, --openapi FILE_OR_ADDRESS, --token-url ADDRESS (the short form), or a definition file.');
  if (file !== undefined) {
    if (Object.keys(options).some((name) => name !== 'write'))
      throw new UsageError('A definition file is read as it is: change it there, and leave the other options out.');
    return { from: 'definition', document: readText(file) };
  }
  const parameters = { authorization_parameters: readPairs(options.authorizationParameter ?? []), token_parameters: readPairs(options.tokenParameter ?? []) };
  const short = (
    [
      ['authorizationUrl', '--authorization-url'],
      ['scopes', '--scopes'],
      ['method', '--method'],
      ['scopeDelimiter', '--scope-delimiter'],
    ] as const
  ).filter(([name]) => options[name] !== undefined);
  if (options.tokenUrl === undefined && short.length > 0)
    throw new UsageError(`${short.map(([, flag]) => flag).join(', ')} can only be used with --token-url. Change these in the written definition instead.`);
  if (options.openapi !== undefined && options.apiCall !== undefined)
    throw new UsageError('--api-call cannot be used with --openapi: the document names the calls.');
  if (options.issuer !== undefined) return { from: 'issuer', address: options.issuer, api_call: options.apiCall ?? '', ...parameters, ...named };
  if (options.openapi !== undefined)
    return /^https?:\/\//.test(options.openapi)
      ? { from: 'openapi', address: options.openapi, ...parameters, ...named }
      : { from: 'openapi', document: readText(options.openapi), ...parameters, ...named };
  return {
    from: 'short_form',
    authorization_url: options.authorizationUrl ?? '',
    token_url: options.tokenUrl ?? '',
    api_call: options.apiCall ?? '',
    scopes: options.scopes ?? '',
    ...parameters,
    ...(options.method && { method: options.method }),
    ...(options.scopeDelimiter && { scope_delimiter: options.scopeDelimiter }),
    ...named,
  };
}

/** What a draft says, for people: where every value came from, what was tidied, what is missing. */
async function sayDraft(all: GlobalOptions, drafted: Drafted): Promise<void> {
  if (all.output === 'json') return printJson(drafted);
  await printList(all, drafted.values, { VALUE: (one) => one.path, IS: (one) => cut(one.value), FROM: (one) => cut(one.source) }, 'Nothing was found.');
  const lines = [
    ...drafted.tidied.map((said) => `Tidied     ${said}`),
    ...drafted.warnings.map((said) => `Note       ${said}`),
    ...drafted.wrong.map((one) => `Wrong      ${one.path}: ${one.why}`),
    ...drafted.endpoints.map((one) => `${one.good ? 'Good' : 'Look'}       ${one.endpoint}: ${one.says}`),
    drafted.ready ? 'Ready      Nothing is missing.' : `Not ready  Missing: ${drafted.missing.join(', ') || 'the places named above'}.`,
  ];
  process.stdout.write(`\n${lines.join('\n')}\n`);
}

/** A definition that is wrong is named with its file. */
async function ofFile<T>(file: string, work: Promise<T>): Promise<T> {
  return work.catch((error: unknown) => {
    const problem = (error as { problem?: { code: string; detail?: string | undefined } }).problem;
    if (problem?.code.startsWith('DEFINITION_')) problem.detail = [`File ${file}.`, problem.detail].filter(Boolean).join(' ');
    throw error;
  });
}

const cut = (text: string): string => (text.length > 70 ? `${text.slice(0, 69)}\u2026` : text);

const withSources = (command: Command): Command =>
  command
    .option('--issuer <address>', 'an issuer, or the address of its metadata')
    .option('--openapi <file>', 'an OpenAPI 3.x document: a file, or its address')
    .option('--token-url <address>', 'the short form: the token URL\u2026')
    .option('--authorization-url <address>', '\u2026the authorization URL (left out: nobody signs in)\u2026')
    .option('--api-call <address>', '\u2026one API call that proves a connection\u2026')
    .option('--scopes <list>', '\u2026and the scopes, pasted in any form')
    .option('--method <method>', 'how the client authenticates: client_secret_basic, client_secret_post, private_key_jwt or none')
    .option('--scope-delimiter <sign>', 'what joins scopes, where it is not a space')
    .option('--authorization-parameter <name=value...>', 'sent with every authorization request')
    .option('--token-parameter <name=value...>', 'sent with every token request, such as an audience')
    .option('--name <name>', 'a name of its own')
    .option('--title <title>');

export function provider(rk: Command): void {
  const noun = rk.command('provider').description('whoever issues the tokens, with the APIs they open');
  noun
    .command('add')
    .description('add a provider from its definition file (YAML or JSON; - reads standard input)')
    .argument('<file>')
    .action(async (file: string, _options: object, command: Command) => {
      const all = globals(command);
      const document = file === '-' ? await (await import('../ask.ts')).standardInput() : readText(file);
      const added = await ofFile(file, (await signedIn(all))('addProvider', { body: { document } }));
      printOne(all, added, [
        ['Added', added.title],
        ['Name', added.name],
        ['Next', `rk client add ${added.name} NAME`],
      ]);
    });
  noun
    .command('check')
    .description('read a definition file and say what is wrong with it; nothing is saved')
    .argument('<file>')
    .option('--ask-endpoints', 'ask its endpoints too, without any secret')
    .action(async (file: string, options: { askEndpoints?: boolean }, command: Command) => {
      const all = globals(command);
      const checked = await ofFile(
        file,
        (await signedIn(all))('checkProvider', { body: { document: readText(file), ask_endpoints: options.askEndpoints ?? false } }),
      );
      printOne(all, checked, [
        ['Good', checked.definition.title],
        ['Scopes', String(checked.definition.scopes.length)],
        ...checked.endpoints.map((one): [string, string] => [one.good ? 'Good' : 'Look', `${one.endpoint}: ${one.says}`]),
        ['Note', checked.exists ? 'A provider of this name exists.' : null],
      ]);
    });
  withSources(noun.command('draft'))
    .description('draft a definition from an issuer, an OpenAPI document or a short form: where every value came from, and what is missing')
    .argument('[file]', 'or a definition file')
    .option('--write <file>', 'write the definition there, to be looked at and added')
    .action(async (file: string | undefined, options: Source & { write?: string }, command: Command) => {
      const all = globals(command);
      const drafted = await (await signedIn(all))('draftProvider', { body: sourceOf(options, file) });
      await sayDraft(all, drafted);
      if (options.write !== undefined) {
        writeFileSync(options.write, drafted.document);
        say(all, `Written    ${options.write}. Next: rk provider add ${options.write}`);
      }
      if (!drafted.ready) throw new Outcome(EXIT.failed, '');
    });
  noun
    .command('change')
    .description('change a definition in use: shows what changes for which clients and connections, and asks; the old version is kept')
    .argument('<file>')
    .option('--yes', 'do not ask')
    .action(async (file: string, options: { yes?: boolean }, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      const document = readText(file);
      const { definition } = await ofFile(file, call('checkProvider', { body: { document } }));
      const params = { provider: definition.name };
      const preview = await call('previewProvider', { params, body: { document } });
      if (all.output !== 'json') {
        await printList(
          all,
          preview.changes,
          { PLACE: (one) => one.path, WAS: (one) => cut(one.from ?? '\u2013'), BECOMES: (one) => cut(one.to ?? '\u2013') },
          'Nothing changes.',
        );
        for (const effect of preview.effects)
          process.stdout.write(`\n${effect.client} (${effect.connections} connections)\n${effect.says.map((said) => `  ${said}`).join('\n')}\n`);
      }
      if (preview.refused.length > 0) throw new Outcome(EXIT.conflict, preview.refused.join('\n'));
      if (preview.changes.length === 0) return all.output === 'json' ? printJson(preview) : undefined;
      const { confirmed } = await import('../ask.ts');
      if (!(await confirmed(`Save this as the new version of ${definition.title}?`, options.yes))) return;
      const saved = await call('changeProvider', { params, body: { document, revision: preview.revision } });
      if (all.output === 'json') printJson(saved);
      else say(all, `\nSaved as version ${saved.revision}; the old one is kept: rk provider versions ${saved.name}`);
    });
  noun
    .command('versions')
    .description('list the versions of a definition')
    .argument('<provider>')
    .option('--write <folder>', 'write each there as a file')
    .action(async (name: string, options: { write?: string }, command: Command) => {
      const all = globals(command);
      const { items } = await (await signedIn(all))('listVersions', { params: { provider: name } });
      await printList(
        all,
        items,
        { SAVED: (one) => one.saved_at, BY: (one) => one.saved_by, DIGEST: (one) => one.digest.slice(0, 12), '': (one) => (one.current ? 'in use' : '') },
        'None.',
      );
      if (options.write !== undefined) for (const one of items) writeFileSync(`${options.write}/${name}-${one.digest.slice(0, 12)}.yaml`, one.document);
    });
  noun
    .command('schema')
    .description('print the JSON Schema of definition files, for an editor')
    .action(async () => {
      const { definitionSchema } = await import('../../api/definition-schema.ts');
      printJson(definitionSchema());
    });
  noun
    .command('scopes')
    .description('the weakest scopes that these operations of its API need')
    .argument('<provider>')
    .argument('<operations...>')
    .action(async (name: string, wanted: string[], _options: object, command: Command) => {
      const all = globals(command);
      const answer = await (await signedIn(all))('chooseScopes', { params: { provider: name }, body: { operations: wanted } });
      await printList(
        all,
        answer.chosen,
        {
          OPERATION: (one) => one.operation,
          NEEDS: (one) => one.scopes.join(' ') || 'nothing',
          INSTEAD_OF: (one) =>
            one.alternatives
              .filter((other) => other.join() !== one.scopes.join())
              .map((other) => other.join(' '))
              .join(' | '),
        },
        'The definition knows none of these operations.',
      );
      say(all, `\nScopes: ${answer.scopes.join(' ')}`);
    });
  noun
    .command('list')
    .description('list providers')
    .action(async (_options: object, command: Command) => {
      const all = globals(command);
      const { items } = await (await signedIn(all))('listProviders');
      await printList(
        all,
        items,
        {
          NAME: (one) => one.name,
          TITLE: (one) => one.title,
          CLIENTS: (one) => String(one.clients),
          CONNECTIONS: (one) => String(one.connections),
          ADDED: (one) => relative(one.added_at),
        },
        'No providers yet. Add one: rk provider add FILE',
      );
    });
  noun
    .command('show')
    .description('show a provider and what its definition says')
    .argument('<provider>')
    .action(async (name: string, _options: object, command: Command) => {
      const all = globals(command);
      const one = await (await signedIn(all))('showProvider', { params: { provider: name } });
      const { definition: d } = one;
      const rotation = `${d.dialect.rotation.replaceAll('_', ' ')}; a second use: ${d.dialect.reuse.replaceAll('_', ' ')}${d.dialect.reuse_grace_seconds ? ` of ${d.dialect.reuse_grace_seconds} s` : ''}`;
      printOne(all, one, [
        ['Name', one.name],
        ['Title', one.title],
        ['About', one.about],
        ['Issuer', d.server.issuer],
        ['Authorization', d.server.authorization_endpoint],
        ['Token', d.server.token_endpoint],
        ['APIs', d.apis.map((api) => api.base_url).join('\n')],
        ['Variants', d.variants.map((one) => `${one.name}: ${one.title}${one.environments.length > 0 ? ` (${one.environments.join(', ')})` : ''}`).join('\n')],
        ['Placeholders', d.placeholders.map((one) => `${one.name} (asked for at the ${one.level})`).join('\n')],
        ['Refresh tokens', rotation],
        ['Scopes', d.scopes.map((scope) => `${scope.name}: ${scope.says}`).join('\n')],
        ['Register at', d.registration.page],
        ['Missing', one.ready.join(', ')],
        ['Version', String(one.revision)],
        ['Clients', String(one.clients)],
        ['Connections', String(one.connections)],
      ]);
    });
  noun
    .command('remove')
    .description('remove a provider that has no clients')
    .argument('<provider>')
    .option('--yes', 'do not ask')
    .action(async (name: string, options: { yes?: boolean }, command: Command) => {
      const all = globals(command);
      const { confirmed } = await import('../ask.ts');
      if (!(await confirmed(`Remove the provider ${name}?`, options.yes))) return;
      await (await signedIn(all))('removeProvider', { params: { provider: name } });
      say(all, `Removed ${name}.`);
    });
}
