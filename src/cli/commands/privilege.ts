import { writeFileSync } from 'node:fs';
import type { PrivilegeShown } from '../../api/privilege.ts';
import { POWER_LABELS, WIDTH_LABELS } from '../../api/vocabulary.ts';
import { noun, operation, task, verb } from '../row.ts';
import { line, table, text } from '../show.ts';

type Of<K extends 'connections' | 'clients' | 'callers' | 'dependents'> = PrivilegeShown[K][number];
const power = (one: { power: Of<'clients'>['power'] }): string => (one.power === null ? 'not known' : POWER_LABELS[one.power]);

export const privilege = () =>
  noun('privilege', 'what clients, connections and callers can do, and what of it nothing needs', [
    operation(verb('show', 'show everything at a glance, those with most privilege first', 'rk privilege show'), {
      calls: 'showPrivilege',
      shows: (all) => ({
        data: all,
        parts: [
          text('Connections'),
          table(
            all.connections,
            {
              CONNECTION: (one: Of<'connections'>) => one.name,
              CAN: power,
              REACHES: (one: Of<'connections'>) => WIDTH_LABELS[one.width],
              ACCOUNT: (one: Of<'connections'>) => one.account ?? '',
              'NOT NEEDED': (one: Of<'connections'>) => (one.unneeded.length === 0 ? '' : `${one.unneeded.join(' ')}${one.unneeded_known ? '' : ' (perhaps)'}`),
            },
            'No connections.',
          ),
          text('Clients'),
          table(
            all.clients,
            {
              CLIENT: (one: Of<'clients'>) => one.name,
              CAN: power,
              WHAT: (one: Of<'clients'>) => one.says,
              CONNECTIONS: (one: Of<'clients'>) => String(one.connections),
            },
            'No clients.',
          ),
          text(`Permissions that could be less (uses of ${all.days} days)`),
          table(
            all.callers.filter((one) => one.could !== null),
            { CALLER: (one: Of<'callers'>) => one.name, OPENS: (one: Of<'callers'>) => one.opens, 'COULD BE': (one: Of<'callers'>) => one.could ?? '' },
            'None.',
          ),
          text('People on whose accounts schedules and callers depend'),
          table(
            all.dependents,
            {
              ACCOUNT: (one: Of<'dependents'>) => one.account,
              PROVIDER: (one: Of<'dependents'>) => one.provider,
              JOBS: (one: Of<'dependents'>) => one.jobs.join(', '),
              CALLERS: (one: Of<'dependents'>) => one.callers.join(', '),
            },
            'Nobody.',
          ),
        ],
      }),
    }),
    task(
      verb('export', 'write one row for each connection as CSV, for an auditor', 'rk privilege export --to privilege.csv').requiredOption(
        '--to <file>',
        'the file',
      ),
      async ({ options: { to }, call }) => {
        const { text: csv, name } = await call('exportPrivilege');
        writeFileSync(to, csv);
        return line(`Written to ${to}.`, { file: to, name });
      },
    ),
  ]);
