import { readFileSync } from 'node:fs';
import type { Command } from 'commander';
import { globals, signedIn } from '../connect.ts';
import { UsageError } from '../exit.ts';
import { printList, printOne, relative, say } from '../print.ts';

const readText = (file: string): string => {
  try {
    return readFileSync(file, 'utf8');
  } catch {
    throw new UsageError(`The file ${file} cannot be read.`);
  }
};

export function provider(rk: Command): void {
  const noun = rk.command('provider').description('whoever issues the tokens, with the APIs they open');
  noun
    .command('add')
    .description('add a provider from its definition file (YAML or JSON)')
    .argument('<file>')
    .action(async (file: string, _options: object, command: Command) => {
      const all = globals(command);
      const added = await (await signedIn(all))('addProvider', { body: { document: readText(file) } });
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
    .action(async (file: string, _options: object, command: Command) => {
      const all = globals(command);
      const checked = await (await signedIn(all))('checkProvider', { body: { document: readText(file) } });
      printOne(all, checked, [
        ['Good', checked.definition.title],
        ['Scopes', String(checked.definition.scopes.length)],
        ['Note', checked.exists ? 'A provider of this name exists.' : null],
      ]);
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
        ['Refresh tokens', rotation],
        ['Scopes', d.scopes.map((scope) => `${scope.name}: ${scope.says}`).join('\n')],
        ['Register at', d.registration.page],
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
