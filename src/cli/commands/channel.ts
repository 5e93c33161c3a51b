import type { Channel, ChannelShown } from '../../api/notices.ts';
import { listedMore, oneOf } from '../options.ts';
import { relative } from '../print.ts';
import { noun, operation, task, verb } from '../row.ts';
import { failedWith, line, list, one, type Shown, table } from '../show.ts';
import { DELIVERED } from '../views/notice.ts';

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
        return withDeliveries(await call('addChannel', { body }));
      },
    ),
    operation(verb('show', 'show a channel and what it sent', 'rk channel show ops').argument('<name>'), {
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
      asks: ({ args: [name] }) => `Remove the channel ${name}? What it has not sent yet is discarded.`,
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
