import type { Channel, ChannelShown, Notice, NoticeDelivery } from '../../api/notices.ts';
import { NOTICE_EVENT_WORDS, NOTICE_KIND_WORDS, NOTICE_SEVERITIES } from '../../api/vocabulary.ts';
import { date, listedMore, oneOf } from '../options.ts';
import { relative } from '../print.ts';
import { noun, operation, task, verb } from '../row.ts';
import { failedWith, line, list, one, type Shown, table, worded } from '../show.ts';

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
const DELIVERED: Record<string, (each: NoticeDelivery) => string> = {
  NEWS: (each) => NOTICE_EVENT_WORDS[each.event],
  STATE: (each) => each.state,
  AT: (each) => relative(each.at),
  DUE: (each) => relative(each.due_at),
  NOTE: (each) => each.says,
};

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
    operation(verb('show', 'show a notice, and which channels were told', 'rk notice show 01a22508-d38d-711c-841b-4b3507b84f23').argument('<id>'), {
      calls: 'showNotice',
      input: ({ args: [id] }) => ({ params: { notice: id } }),
      shows: (each) => {
        const head = shown(each);
        return { ...head, parts: [...head.parts, table(each.deliveries, { CHANNEL: (told) => told.channel, ...DELIVERED }, 'No channel was told.')] };
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

const targetOf = (each: Channel): string => each.url ?? each.script ?? each.to.join(', ');
const channelShown = (each: Channel): Shown =>
  one(each, [
    ['Channel', each.name],
    ['Sends by', each.kind],
    ['To', targetOf(each)],
    ['Signed', each.kind === 'webhook' ? (each.signed ? 'yes, by Standard Webhooks' : 'no') : null],
    ['Action needed', each.rule.severities.action],
    ['Warnings', each.rule.severities.warning],
    ['Information', each.rule.severities.info],
    ['Labels', each.rule.labels.length === 0 ? 'all' : each.rule.labels.join(', ')],
    ['Digest at', `${each.rule.digest_at} (${each.rule.zone})`],
    ['Quiet hours', each.rule.quiet === null ? 'none' : `${each.rule.quiet.from} to ${each.rule.quiet.to}`],
    ['Enabled', each.enabled ? 'yes' : 'no'],
    ['Failing since', each.failing_since && relative(each.failing_since)],
    ['Last', each.last_at && `${relative(each.last_at)}: ${each.last_says}`],
  ]);
const withDeliveries = (each: ChannelShown): Shown => {
  const head = channelShown(each);
  return {
    ...head,
    parts: [...head.parts, table(each.deliveries, { NOTICE: (told) => told.title, ...DELIVERED }, 'Nothing was sent yet.')],
  };
};

const SENDING = ['now', 'digest', 'off'] as const;
const withRule = (command: ReturnType<typeof verb>) =>
  command
    .argument('<name>')
    .option('--to <address...>', 'mail: addresses', listedMore)
    .option('--url <address>', 'webhook: where events are sent')
    .option('--signing-secret', 'webhook: read the secret for the signature from standard input')
    .option('--script <file>', 'a program in the folder of programs')
    .addOption(oneOf('--action <when>', 'when action is needed', SENDING))
    .addOption(oneOf('--warning <when>', 'warnings', SENDING))
    .addOption(oneOf('--info <when>', 'information', SENDING))
    .option('--label <label...>', 'only about connections with these labels', listedMore)
    .option('--zone <zone>', 'time zone, such as Europe/Oslo')
    .option('--digest-at <time>', 'when the digest is sent, such as 08:00')
    .option('--quiet <from-to>', 'send nothing in these hours, such as 22:00-07:00; none: no quiet hours');

interface RuleOptions {
  action?: 'now' | 'digest' | 'off';
  warning?: 'now' | 'digest' | 'off';
  info?: 'now' | 'digest' | 'off';
  label?: string[];
  zone?: string;
  digestAt?: string;
  quiet?: string;
}
/** The rule as it is, with what the options change. */
function ruleOf(options: RuleOptions, before: Channel['rule'] | null) {
  const { action, warning, info, label, zone, digestAt, quiet } = options;
  const [from = '', to = ''] = quiet?.split('-') ?? [];
  const severities = before?.severities ?? { action: 'now' as const, warning: 'digest' as const, info: 'digest' as const };
  return {
    ...(before ?? {}),
    severities: { ...severities, ...(action ? { action } : {}), ...(warning ? { warning } : {}), ...(info ? { info } : {}) },
    ...(label ? { labels: label } : {}),
    ...(zone ? { zone } : {}),
    ...(digestAt ? { digest_at: digestAt } : {}),
    ...(quiet === undefined ? {} : { quiet: quiet === 'none' ? null : { from, to } }),
  };
}

/** `rk channel`: how notices reach people. */
export const channel = () =>
  noun('channel', 'how notices reach people: mail, webhooks, programs', [
    operation(verb('list', 'list channels', 'rk channel list'), {
      calls: 'listChannels',
      shows: ({ items }) =>
        list(
          items,
          {
            NAME: (each) => each.name,
            BY: (each) => each.kind,
            TO: targetOf,
            'ACTION/WARNING/INFO': (each) => [each.rule.severities.action, each.rule.severities.warning, each.rule.severities.info].join(' / '),
            STATE: (each) => (each.enabled ? (each.failing_since === null ? 'working' : 'failing') : 'disabled'),
            LAST: (each) => relative(each.last_at),
          },
          'No channels yet: notices are shown in the console only. Add one: rk channel add NAME --to ADDRESS',
        ),
    }),
    task(
      withRule(verb('add', 'add a channel', 'rk channel add ops --to ops@saltmarsh.example --zone Europe/Oslo')),
      async ({ args: [name], options, call }) => {
        const { to, url, signingSecret, script } = options;
        const rule = ruleOf(options, null);
        const secret = signingSecret ? { signing_secret: await (await import('../ask.ts')).secret('Signing secret') } : {};
        const body =
          url !== undefined
            ? { kind: 'webhook' as const, name, url, ...secret, rule }
            : script !== undefined
              ? { kind: 'script' as const, name, script, rule }
              : { kind: 'mail' as const, name, to: to ?? [], rule };
        return withDeliveries(await call('addChannel', { body: body as never }));
      },
    ),
    operation(verb('show', 'show a channel and what it was told', 'rk channel show ops').argument('<name>'), {
      calls: 'showChannel',
      input: ({ args: [name] }) => ({ params: { channel: name } }),
      shows: withDeliveries,
    }),
    task(
      withRule(verb('change', 'change a channel', 'rk channel change ops --warning now --quiet 22:00-07:00'))
        .option('--enable', 'send again')
        .option('--disable', 'send nothing'),
      async ({ args: [name], options, call }) => {
        const { to, url, signingSecret, script, enable, disable } = options;
        const before = await call('showChannel', { params: { channel: name } });
        const secret = signingSecret ? { signing_secret: await (await import('../ask.ts')).secret('Signing secret') } : {};
        const body = {
          revision: before.revision,
          rule: ruleOf(options, before.rule) as Channel['rule'],
          ...(to ? { to } : {}),
          ...(url === undefined ? {} : { url }),
          ...(script === undefined ? {} : { script }),
          ...secret,
          ...(enable ? { enabled: true } : disable ? { enabled: false } : {}),
        };
        return withDeliveries(await call('changeChannel', { params: { channel: name }, body }));
      },
    ),
    operation(verb('remove', 'remove a channel', 'rk channel remove ops').argument('<name>'), {
      calls: 'removeChannel',
      asks: ({ args: [name] }) => `Remove the channel ${name}? What it was still to be told is discarded.`,
      input: ({ args: [name] }) => ({ params: { channel: name } }),
      shows: () => line('Removed.'),
    }),
    operation(verb('test', 'send a test notice', 'rk channel test ops').argument('<name>'), {
      calls: 'testChannel',
      input: ({ args: [name] }) => ({ params: { channel: name } }),
      shows: (tested) => (tested.done ? line(tested.says, tested) : failedWith(line(tested.says, tested), tested.says)),
    }),
    operation(verb('replay', 'send again what a channel did not take', 'rk channel replay ops').argument('<name>'), {
      calls: 'replayChannel',
      input: ({ args: [name] }) => ({ params: { channel: name } }),
      shows: (sent) => line(`${sent.sent_again} are sent again.`, sent),
    }),
  ]);
