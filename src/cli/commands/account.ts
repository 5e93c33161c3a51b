import { ROLES } from '../../api/roles.ts';
import { FACTOR_WORDS } from '../../api/vocabulary.ts';
import { oneOf, whole } from '../options.ts';
import { relative } from '../print.ts';
import { noun, operation, task, verb } from '../row.ts';
import { line, one, table } from '../show.ts';
import { written } from '../written.ts';
import { SESSION_COLUMNS } from './operator.ts';

export const account = () =>
  noun('account', 'your own account: sessions, personal tokens, second factors', [
    operation(verb('show', 'show role, limits, second factors, sessions and personal tokens', 'rk account show'), {
      calls: 'showAccount',
      shows: (each) => {
        const head = one(each, [
          ['Operator', each.operator],
          ['Role', each.role],
          ['Limited to', each.labels.length === 0 ? 'none' : each.labels.join(', ')],
          ['Recovery codes', each.second_factors.length === 0 ? null : `${each.recovery_codes} left`],
          ['Passkeys', each.passkeys.why],
        ]);
        const factors = {
          ID: (factor: (typeof each.second_factors)[number]) => factor.id,
          'SECOND FACTOR': (factor: (typeof each.second_factors)[number]) => `${FACTOR_WORDS[factor.kind]} ${factor.name}`,
          'LAST USED': (factor: (typeof each.second_factors)[number]) => (factor.last_used_at ? relative(factor.last_used_at) : 'never'),
        };
        return {
          ...head,
          parts: [
            ...head.parts,
            table(each.second_factors, factors, 'No second factor. Set one up: rk account add-authenticator NAME --to FILE'),
            table(each.sessions, SESSION_COLUMNS, 'No sessions.'),
          ],
        };
      },
    }),
    task(
      verb('add-token', 'add a personal token for your scripts; it is written to a file and not shown', 'rk account add-token nightly --to nightly.token')
        .argument('<name>')
        .addOption(oneOf('--role <role>', 'what it may do at most', ROLES).default('viewer' as const))
        .option('--days <days>', 'when it expires', whole('--days'), 90)
        .requiredOption('--to <file>', 'the new file for the token'),
      async ({ args: [name], options: { role, days, to }, call }) => {
        const { token, ...rest } = await call('addPersonalToken', { body: { name, role, days } });
        written(to, token);
        return line(`Token written to ${to}. It expires ${relative(rest.ends_at)}. Scripts use it with RUSTY_KETTLE_TOKEN.`, { ...rest, file: to });
      },
    ),
    operation(
      verb('end-session', 'end one of your sessions, or revoke a personal token', 'rk account end-session 01890000-0000-7000-8000-000000000000 --yes').argument(
        '<session>',
      ),
      {
        calls: 'endOwnSession',
        input: ({ args: [session] }) => ({ params: { session } }),
        asks: () => 'End this session?',
        shows: () => line('Session ended.'),
      },
    ),
    task(
      verb('add-authenticator', 'set up an authenticator app as second factor', 'rk account add-authenticator phone --to phone.txt')
        .argument('<name>')
        .requiredOption('--to <file>', 'the new file for the otpauth:// address that the app reads'),
      async ({ args: [name], options: { to }, call }) => {
        const { factor, uri } = await call('startAuthenticator', { body: { name } });
        written(to, uri);
        process.stderr.write(`Enter the address in ${to} into the app, then delete the file.\n`);
        const { secret } = await import('../ask.ts');
        const { recovery_codes } = await call('finishSecondFactor', { params: { factor }, body: { code: await secret('Code that the app shows') } });
        if (recovery_codes.length > 0) written(`${to}.recovery-codes`, recovery_codes.join('\n'));
        const kept = recovery_codes.length > 0 ? ` ${recovery_codes.length} recovery codes are in ${to}.recovery-codes: keep them apart from your phone.` : '';
        return line(`Second factor set up.${kept}`, { factor });
      },
    ),
    operation(
      verb('remove-second-factor', 'remove a second factor', 'rk account remove-second-factor 01890000-0000-7000-8000-000000000000 --yes').argument('<factor>'),
      {
        calls: 'removeSecondFactor',
        input: ({ args: [factor] }) => ({ params: { factor } }),
        asks: () => 'Remove this second factor?',
        shows: () => line('Second factor removed.'),
      },
    ),
    task(
      verb('recovery-codes', 'make new recovery codes; the old ones stop working', 'rk account recovery-codes --to codes.txt').requiredOption(
        '--to <file>',
        'the new file for the codes',
      ),
      async ({ options: { to }, call }) => {
        const { recovery_codes } = await call('renewRecoveryCodes');
        written(to, recovery_codes.join('\n'));
        return line(`${recovery_codes.length} recovery codes written to ${to}.`, { file: to });
      },
    ),
  ]);
