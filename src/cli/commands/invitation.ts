import { INVITATION_WORDS } from '../../api/vocabulary.ts';
import { whole } from '../options.ts';
import { relative } from '../print.ts';
import { noun, operation, task, verb } from '../row.ts';
import { line, list, one, text, worded } from '../show.ts';

/** `rk invitation`: links with which people connect their own accounts. */
export const invitation = () =>
  noun('invitation', 'links with which people connect their own accounts', [
    task(
      verb(
        'add',
        'make a link for one person; it is shown once',
        'rk invitation add crew-id --person member-17 --purpose "Show your certificates" --caller crew-portal',
      )
        .argument('<connection>', 'a shared connection')
        .requiredOption('--person <key>', 'the application\u2019s own key for the person')
        .requiredOption('--purpose <text>', 'why the application asks, in words for the person')
        .option('--name <text>', 'the person\u2019s name, so that whoever gets the link by mistake notices')
        .option('--caller <name>', 'the application for which the person connects')
        .option('--return-to <address>', 'where the person goes afterwards: a redirect URI of the caller')
        .option('--account <account>', 'the account at the provider that must consent')
        .option('--label <labels...>', 'labels of the person')
        .option('--uses <n>', 'how many consents may come of it', whole('--uses'), 1)
        .option('--hours <n>', 'how long the link is good', whole('--hours'), 168)
        .option('--mail <address>', 'send the link by mail, and one when the connection is lost')
        .option('--qr', 'show the link as a QR code, too'),
      async ({ args: [connection], options, call }) => {
        const { person, purpose, name, caller, returnTo, account, label, uses, hours, qr, mail } = options;
        const body = {
          person,
          purpose,
          name,
          caller,
          return_to: returnTo,
          expected_account: account,
          labels: label,
          mail_to: mail,
          uses,
          expires_in_hours: hours,
        };
        const made = await call('invitePerson', { params: { connection }, body });
        const shown = one(made, [
          ['Link', made.url],
          ['Person', made.person],
          ['Handle', made.handle],
          ['Expires', relative(made.expires_at)],
          ['ID', made.id],
        ]);
        if (!qr) return shown;
        const { toString: drawn } = await import('qrcode');
        return { ...shown, parts: [...shown.parts, text(await drawn(made.url, { type: 'utf8' }))] };
      },
    ),
    operation(
      verb('list', 'list invitations, newest first', 'rk invitation list crew-id')
        .argument('<connection>')
        .option('--limit <n>', 'how many', whole('--limit'), 50),
      {
        calls: 'listInvitations',
        input: ({ args: [connection], options }) => ({ params: { connection }, query: { limit: options.limit } }),
        shows: ({ items }) =>
          list(
            items,
            {
              PERSON: (each) => each.name ?? each.person,
              HANDLE: (each) => each.handle,
              FOR: (each) => each.caller ?? '\u2013',
              STATE: (each) => worded(INVITATION_WORDS[each.state]),
              USES: (each) => `${each.uses}${each.uses_most === null ? '' : ` of ${each.uses_most}`}`,
              MADE: (each) => relative(each.created_at),
              EXPIRES: (each) => relative(each.expires_at),
              ID: (each) => each.id,
            },
            'No invitations yet. Make one: rk invitation add CONNECTION --person KEY --purpose TEXT',
          ),
      },
    ),
    operation(verb('revoke', 'revoke an invitation: its link no longer works', 'rk invitation revoke 01a22508-d38d-711c-841b-4b3507b84f23').argument('<id>'), {
      calls: 'revokeInvitation',
      asks: ({ args: [id] }) => `Revoke the invitation ${id}? Its link stops working at once.`,
      input: ({ args: [id] }) => ({ params: { invitation: id } }),
      shows: () => line('Revoked.'),
    }),
  ]);
