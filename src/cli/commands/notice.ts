import type { Notice } from '../../api/notices.ts';
import { NOTICE_KIND_WORDS, NOTICE_SEVERITIES } from '../../api/vocabulary.ts';
import { date, oneOf } from '../options.ts';
import { relative } from '../print.ts';
import { noun, operation, verb } from '../row.ts';
import { list, one, type Shown, table, worded } from '../show.ts';
import { DELIVERED } from '../views/notice.ts';

const SEVERITIES = ['action', 'warning', 'info'] as const;
const shown = (each: Notice): Shown =>
  one(each, [
    ['Notice', each.title],
    ['Severity', worded(NOTICE_SEVERITIES[each.severity])],
    ['State', each.state],
    ['Evidence', each.evidence || null],
    ['Fix', each.remedy],
    ['Command', each.command],
    ['Date', each.due_at && relative(each.due_at)],
    ['Connections', each.connections === 0 ? null : String(each.connections)],
    ['Opened', relative(each.opened_at)],
    ['Closed', each.closed_at && relative(each.closed_at)],
    ['Acknowledged by', each.acknowledged_by],
    ['Assigned to', each.assigned_to],
    ['Snoozed until', each.snoozed_until && relative(each.snoozed_until)],
  ]);

/** `rk notice`: what people should know. */
export const notice = () =>
  noun('notice', 'what people should know: one notice for each cause', [
    operation(
      verb('list', 'list open notices, the newest first', 'rk notice list --severity action')
        .addOption(oneOf('--severity <severity>', 'only of this severity', SEVERITIES))
        .option('--label <label>', 'only about connections with this label')
        .option('--closed', 'those that are closed'),
      {
        calls: 'listNotices',
        input: ({ options: { severity, label, closed } }) => ({ query: { severity, label, state: closed ? 'closed' : 'open' } }),
        shows: ({ items }) =>
          list(
            items,
            {
              SEVERITY: (each) => worded(NOTICE_SEVERITIES[each.severity]),
              NOTICE: (each) => each.title,
              ABOUT: (each) => NOTICE_KIND_WORDS[each.kind],
              CONNECTIONS: (each) => (each.connections === 0 ? '' : String(each.connections)),
              DATE: (each) => (each.due_at === null ? '' : relative(each.due_at)),
              OPENED: (each) => relative(each.opened_at),
              WHO: (each) => each.assigned_to ?? each.acknowledged_by ?? '',
              FIX: (each) => each.command,
              ID: (each) => each.id,
            },
            'No notices. Nothing needs your attention.',
          ),
      },
    ),
    operation(verb('show', 'show a notice, and which channels got it', 'rk notice show 01a22508-d38d-711c-841b-4b3507b84f23').argument('<id>'), {
      calls: 'showNotice',
      input: ({ args: [id] }) => ({ params: { notice: id } }),
      shows: (each) => {
        const head = shown(each);
        return {
          ...head,
          parts: [...head.parts, table(each.deliveries, { CHANNEL: (told) => told.channel, ...DELIVERED }, 'It was not sent to any channel.')],
        };
      },
    }),
    operation(
      verb('acknowledge', 'stop its reminders; it closes when its cause is gone', 'rk notice acknowledge 01a22508-d38d-711c-841b-4b3507b84f23').argument(
        '<id>',
      ),
      {
        calls: 'acknowledgeNotice',
        input: ({ args: [id] }) => ({ params: { notice: id } }),
        shows: shown,
      },
    ),
    operation(
      verb('assign', 'assign it to an operator', 'rk notice assign 01a22508-d38d-711c-841b-4b3507b84f23 --to marit')
        .argument('<id>')
        .option('--to <operator>', 'default: to nobody'),
      {
        calls: 'assignNotice',
        input: ({ args: [id], options: { to } }) => ({ params: { notice: id }, body: { to: to ?? null } }),
        shows: shown,
      },
    ),
    operation(
      verb('snooze', 'send no reminder before a date', 'rk notice snooze 01a22508-d38d-711c-841b-4b3507b84f23 --until 2027-03-31')
        .argument('<id>')
        .option('--until <date>', 'default: no longer snoozed', date('--until')),
      {
        calls: 'snoozeNotice',
        input: ({ args: [id], options: { until } }) => ({ params: { notice: id }, body: { until: until ?? null } }),
        shows: shown,
      },
    ),
  ]);
