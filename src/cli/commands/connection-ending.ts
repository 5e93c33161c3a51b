import type { Command } from 'commander';
import { globals, signedIn } from '../connect.ts';
import { printOne, relative } from '../print.ts';

/** `rk connection revoke`: what uses it is listed first; a provider that could not be told is told again. */
export function connectionEnding(noun: Command): void {
  noun
    .command('revoke')
    .description('tell the provider to end the grant, and forget its tokens here; name, callers and history stay')
    .argument('<name>')
    .option('--again', 'tell a provider now that could not be told before')
    .option('--yes', 'do not ask')
    .action(async (name: string, options: { again?: boolean; yes?: boolean }, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      if (options.again) {
        const answer = await call('retryRevocation', { params: { connection: name } });
        return printOne(all, answer, [['There', answer.says]]);
      }
      const { callers_last_used: users } = await call('showConnection', { params: { connection: name } });
      const { confirmed } = await import('../ask.ts');
      const used = users.map((one) => `${one.caller} (${one.at ? `last used ${relative(one.at)}` : 'never used it'})`);
      const stops = used.length > 0 ? ` These get no token any more: ${used.join(', ')}.` : ' No caller uses it.';
      if (!(await confirmed(`Revoke ${name}?${stops}`, options.yes))) return;
      const answer = await call('revokeConnection', { params: { connection: name } });
      printOne(all, answer, [
        ['Revoked', name],
        ['There', answer.says],
        ['Next', `rk connection open ${name} agrees again`],
      ]);
    });
}
