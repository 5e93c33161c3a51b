import { withFollowUps } from '../../core/notices/follow-ups.ts';
import type { Cause, Notice } from '../../core/notices/notice.ts';
import { iso } from '../iso.ts';
import type { ChannelRow } from '../store/channels.ts';
import { connectionCauses } from './connection-causes.ts';
import { definitionCauses, publishedCauses } from './definition-causes.ts';
import { jobCauses } from './job-causes.ts';
import type { NoticeParts } from './parts.ts';
import { PLAIN } from './plain-cause.ts';
import { upcomingCauses } from './upcoming-causes.ts';

const DAY_MS = 86_400_000;
const APPROVAL_NEWS_MS = 14 * DAY_MS;

/** Everything that is true now and that someone should know. `kept`: notices, so that news someone has acknowledged ends. */
export async function causesNow(
  s: NoticeParts,
  { kept, channels, slow }: { kept: readonly Notice[]; channels: readonly ChannelRow[]; slow: readonly Cause[] },
): Promise<Cause[]> {
  const read = new Set(kept.filter((one) => one.kind === 'approval' && one.acknowledgedBy !== null).map((one) => one.key));
  const quick = await Promise.all([connectionCauses(s), installationCauses(s), backupCauses(s), practiceCauses(s)]);
  const all = [
    ...quick.flat(),
    ...channels.filter((one) => one.enabled && one.failingSince !== null).map(channelCause),
    ...slow.filter((one) => !read.has(one.key)),
  ];
  return withFollowUps(all, s.ports.clock.now());
}

/** What changes rarely, or takes longer to find out. */
export async function slowCauses(s: NoticeParts, now: number): Promise<Cause[]> {
  return (
    await Promise.all([
      upcomingCauses(s, now),
      jobCauses(s),
      peopleCauses(s),
      definitionCauses(s),
      approvalCauses(s, now),
      publishedCauses(s),
      eventCauses(s),
      driftCauses(s),
    ])
  ).flat();
}

/** A channel that does not work is a notice in the console, and on the other channels. */
const channelCause = (one: ChannelRow): Cause => ({
  ...PLAIN,
  key: `channel:${one.id}`,
  kind: 'delivery',
  severity: 'action',
  subject: `channel:${one.name}`,
  title: `The channel ${one.name} does not take notices`,
  evidence: one.lastSays,
  remedy: 'Fix its address or its server, then send a test. What waited is sent when it works again.',
  page: '/settings/channels',
  command: `rk channel test ${one.name}`,
});

async function installationCauses(s: NoticeParts): Promise<Cause[]> {
  const { held, why } = await s.hold.state();
  if (!held) return [];
  return [
    {
      ...PLAIN,
      key: 'installation:held',
      kind: 'installation',
      severity: 'action',
      subject: 'installation',
      title: 'Renewals of rotating grants are on hold',
      evidence: why ?? '',
      remedy: 'Start every replica, and make sure that no other installation renews these grants. Then run `rk installation own`.',
      page: '/',
      command: 'rk installation show',
    },
  ];
}

/** What is in version control, and what runs, have come apart. */
async function driftCauses(s: NoticeParts): Promise<Cause[]> {
  const drift = await s.drift();
  if (drift === null || drift.count === 0) return [];
  return [
    {
      ...PLAIN,
      key: 'installation:drift',
      kind: 'installation',
      severity: 'warning',
      subject: 'installation',
      title: 'The installation differs from the bundle',
      evidence: drift.says,
      remedy: 'Compare it, then import the bundle, or export the edits into it.',
      page: '/settings/bundles',
      command: 'rk bundle compare FOLDER',
    },
  ];
}

/** A schedule that did not bring a good backup for twice its time: on the day the disk is lost, that is what there is. */
async function backupCauses(s: NoticeParts): Promise<Cause[]> {
  const plan = await s.store.backups.plan();
  if (plan === null) return [];
  const rows = await s.store.backups.list();
  const [good, [last]] = [rows.find((row) => row.state === 'done'), rows];
  const late = s.ports.clock.now() - 2 * plan.everyHours * 3_600_000;
  const since = good?.endedAt ?? last?.startedAt ?? null;
  if (since === null || (since > late && (last?.state !== 'failed' || good !== undefined))) return [];
  return [
    {
      ...PLAIN,
      key: 'installation:backup',
      kind: 'installation',
      severity: 'action',
      subject: 'installation',
      title: good ? 'The last good backup is old' : 'No backup has succeeded',
      evidence: last?.state === 'failed' ? last.says : `Backups are scheduled every ${plan.everyHours} hours.`,
      remedy: 'Read why the last one failed, fix it, and run `rk backup add`.',
      page: '/settings/backups',
      command: 'rk backup list',
    },
  ];
}

const PRACTICE_OLD_MS = 100 * DAY_MS;
/** After a first practice restore the next one is due within a quarter, and some days. */
async function practiceCauses(s: NoticeParts): Promise<Cause[]> {
  const last = await s.store.backups.practiced();
  if (last === null) return [];
  const isOld = s.ports.clock.now() - last.at > PRACTICE_OLD_MS;
  if (last.good && !isOld) return [];
  return [
    {
      ...PLAIN,
      key: 'installation:practice',
      kind: 'installation',
      severity: last.good ? 'warning' : 'action',
      subject: 'installation',
      title: last.good ? 'The last practice restore is old' : 'The last practice restore failed',
      evidence: last.good ? `It was ${iso(last.at).slice(0, 10)}, of ${last.file}.` : `${last.file}: ${last.faults.join(' ')}`,
      remedy: last.good ? 'Restore the newest backup for practice.' : 'Make a backup, and restore it for practice.',
      page: '/settings/backups',
      command: 'rk restore --practice --check FOLDER',
    },
  ];
}

async function peopleCauses(s: NoticeParts): Promise<Cause[]> {
  return (await s.store.noticeFacts.peopleLost()).map(({ shared, count, labels }) => ({
    ...PLAIN,
    key: `people:${shared}`,
    kind: 'connections',
    severity: 'info',
    subject: `connection:${shared}`,
    title: `People of ${shared} must reconnect`,
    remedy: 'Each got the link to reconnect, where an address is known. A campaign reminds them.',
    page: `/connections/${shared}`,
    command: `rk person list ${shared} --state action_needed`,
    labels,
    count,
  }));
}

/** News: it ends when someone has read it, or after two weeks. */
async function approvalCauses(s: NoticeParts, now: number): Promise<Cause[]> {
  return (await s.store.noticeFacts.approvalNews(now - APPROVAL_NEWS_MS)).map(({ entryId, subject, approval, says }) => {
    const client = subject.replace(/^client:/, '');
    const [provider, name] = client.split('/');
    return {
      ...PLAIN,
      key: `approval:${entryId}`,
      kind: 'approval',
      severity: approval === 'rejected' || approval === 'info_requested' ? 'action' : 'info',
      subject,
      title: `${APPROVALS.get(approval) ?? 'The provider changed the approval of'} ${client}`,
      evidence: says,
      remedy:
        approval === 'approved'
          ? 'Acknowledge it. Its connections can be opened now.'
          : 'Open the client, and answer the provider. Acknowledge it when that is done.',
      page: `/providers/${provider}/clients/${name}`,
      command: `rk client show ${client}`,
    };
  });
}
const APPROVALS = new Map([
  ['approved', 'The provider approved'],
  ['rejected', 'The provider rejected'],
  ['info_requested', 'The provider asks for more about'],
  ['requested', 'The provider received the request for'],
]);

async function eventCauses(s: NoticeParts): Promise<Cause[]> {
  return (await s.store.noticeFacts.unreached()).map(({ caller, waiting, lost, says }) => ({
    ...PLAIN,
    key: `events:${caller}`,
    kind: 'delivery',
    severity: 'action',
    subject: `caller:${caller}`,
    title: `The application ${caller} does not take events`,
    evidence: `${says} Waiting: ${waiting}; given up: ${lost}.`,
    remedy: 'Fix the receiver, then send the events again.',
    page: `/callers/${caller}/events`,
    command: `rk caller replay-events ${caller}`,
    settleMs: s.settings.noticeSettleMs,
  }));
}
