import type { ActivityVerified } from '../../api/activity.ts';
import type { HistoryEntry } from '../../api/common.ts';
import { UsageError } from '../exit.ts';
import { clientName, date, whole } from '../options.ts';
import { relative } from '../print.ts';
import { noun, operation, task, verb } from '../row.ts';
import { failedWith, line, list, one, text } from '../show.ts';

const filtered = (command: ReturnType<typeof verb>) =>
  command
    .option('--connection <name>', 'only this connection')
    .option('--caller <name>', 'only this caller')
    .option('--client <client>', 'only this client, PROVIDER/NAME', (named) => {
      const { provider, client } = clientName(named);
      return `${provider}/${client}`;
    })
    .option('--kind <word>', 'only this kind, such as consented or revoked')
    .option('--actor <name>', 'only what this operator did; service: what nobody requested')
    .option('--since <date>', 'only entries since this date (YYYY-MM-DD)', date('--since'))
    .option('--until <date>', 'only entries before this date', date('--until'))
    .option('--renewals', 'include routine renewals');

interface Filters {
  connection?: string;
  caller?: string;
  client?: string;
  kind?: string;
  actor?: string;
  since?: string;
  until?: string;
  renewals?: true;
}
function queryOf({ kind, actor, since, until, renewals, ...named }: Filters) {
  const subjects = (['connection', 'caller', 'client'] as const).flatMap((noun) => (named[noun] === undefined ? [] : [`${noun}:${named[noun]}`]));
  if (subjects.length > 1) throw new UsageError('Name only one of --connection, --caller and --client.');
  return { subject: subjects[0], kind, actor, since, until, renewals: renewals ? ('true' as const) : undefined };
}

const PAGE = 1_000;
/** A run that never ends would be a fault of the service: an export has an end. */
const MAX_PAGES = 100_000;

/** `rk activity`: what happened, who did it, and the proof that nothing of it was changed. */
export const activity = () =>
  noun('activity', 'what happened, who did it, and verification that the log is unchanged', [
    operation(
      filtered(verb('list', 'show what happened, newest first', 'rk activity list --connection sailings'))
        .option('--before <id>', 'only entries before the entry with this ID')
        .option('--limit <n>', 'how many', whole('--limit'), 30),
      {
        calls: 'listHistory',
        input: ({ options: { limit, before, ...filters } }) => ({ query: { ...queryOf(filters), limit, before } }),
        shows: ({ items, more }) => {
          const shown = list(
            items,
            {
              WHEN: (each) => relative(each.at),
              WHO: (each) => each.actor,
              FROM: (each) => each.address ?? '',
              OBJECT: (each) => each.subject,
              CLASS: (each) => String(each.data.class ?? ''),
              EVENT: (each) => each.says,
            },
            'Nothing has happened yet.',
          );
          return more ? { ...shown, parts: [...shown.parts, text(`More entries: --before ${items.at(-1)?.id}`)] } : shown;
        },
      },
    ),
    task(verb('verify', 'verify that no entry was changed, removed or added in the database', 'rk activity verify'), async ({ call }) => {
      const spinner = process.stderr.isTTY ? (await import('ora')).default({ text: 'Verifying', discardStdin: false }).start() : null;
      let checked = 0;
      try {
        for (let cursor: string | null = null, pieces = 0; pieces < MAX_PAGES; pieces += 1) {
          const piece: ActivityVerified = await call('verifyActivity', { body: { cursor } });
          checked += piece.checked;
          if (spinner) spinner.text = `${checked} entries verified`;
          const data = { ...piece, checked };
          if (piece.broken) {
            const { entry, at, says, why, chain } = piece.broken;
            const shown = one(data, [
              ['First broken entry', entry ?? '(none of the chain)'],
              ['Written', at],
              ['Text', says],
              ['Chain', chain],
              ['Why', why],
            ]);
            return failedWith(shown, 'The activity log was changed in the database. Entries before the broken one are as they were written.');
          }
          if (piece.next === null) {
            const older = piece.unchained
              ? ` ${piece.unchained.count} entries of earlier versions stand in no chain, the newest of ${piece.unchained.newest_at}.`
              : '';
            return line(`Verified: ${checked} entries in ${piece.chains} chains are as they were written.${older}`, data);
          }
          cursor = piece.next;
        }
        throw new UsageError('The log did not end.');
      } finally {
        spinner?.stop();
      }
    }),
    task(
      filtered(verb('export', 'write entries as NDJSON, newest first', 'rk activity export --since 2027-01-01 --to activity.ndjson')).option(
        '--to <file>',
        'default: standard output',
      ),
      async ({ options: { to, ...filters }, call }) => {
        const query = queryOf(filters);
        let count = 0;
        async function* lines(): AsyncGenerator<string> {
          for (let before: string | undefined, pages = 0; pages < MAX_PAGES; pages += 1) {
            const { items, more }: { items: HistoryEntry[]; more: boolean } = await call('listHistory', {
              query: { ...query, before, limit: PAGE, purpose: 'export' },
            });
            count += items.length;
            if (items.length > 0) yield `${items.map((each) => JSON.stringify(each)).join('\n')}\n`;
            if (!more) return;
            before = items.at(-1)?.id;
          }
        }
        const { deliver } = await import('../collecting.ts');
        const { Readable } = await import('node:stream');
        await deliver(Readable.from(lines()), to);
        return to === undefined ? undefined : line(`${count} entries are in ${to}.`, { count, to });
      },
    ),
  ]);
