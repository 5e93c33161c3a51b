import { z } from 'zod';
import { Completeness, RunProblem } from '../../api/jobs.ts';
import type { Upcoming } from '../../core/forecast/forecast.ts';
import { groupInWords, HEALTH_CAUSES, type HealthCause, remedyFor } from '../../core/health.ts';
import { ofClientKey, ofProviderKey } from '../../core/notices/connections-key.ts';
import { withFollowUps } from '../../core/notices/follow-ups.ts';
import type { Cause, Notice } from '../../core/notices/notice.ts';
import { upcomingTitle, withoutAccount } from '../../core/notices/upcoming-title.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { testPhases, upcoming } from '../forecast/index.ts';
import { connectionDefinition } from '../grants/index.ts';
import type { ChannelRow } from '../store/channels.ts';
import type { StateCount } from '../store/connection-list.ts';
import type { NoticeParts } from './parts.ts';

const DAY_MS = 86_400_000;
const UPCOMING_DAYS = 30;
const APPROVAL_NEWS_MS = 14 * DAY_MS;
/** More of one kind than that are one notice: they have one date for the first, and one page. */
const ONE_BY_ONE_MOST = 20;
/** A state that is seen while something is being changed is no notice. */
const ACTION_SETTLE_MS = 10_000;

/** Everything that is true now and that someone should know. `kept`: notices, so that news someone has acknowledged ends. */
export async function causesNow(
  s: NoticeParts,
  { kept, channels, slow }: { kept: readonly Notice[]; channels: readonly ChannelRow[]; slow: readonly Cause[] },
): Promise<Cause[]> {
  const read = new Set(kept.filter((one) => one.kind === 'approval' && one.acknowledgedBy !== null).map((one) => one.key));
  const quick = await Promise.all([connectionCauses(s), installationCauses(s), backupCauses(s)]);
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

const plain = { labels: [] as string[], count: 0, dueAt: null, settleMs: 0, evidence: '' };

/** Connections that are degraded or need action, by cause: of one provider where the cause lies there, else of one client. */
async function connectionCauses(s: NoticeParts): Promise<Cause[]> {
  await s.connectionStates.settle();
  const groups = groupsOf(await s.store.connectionList.countStates());
  if (groups.size === 0) return [];
  const titles = new Map((await s.store.providers.all()).map((one) => [one.name, one.title]));
  return Promise.all([...groups].map(([key, of]) => groupCause(s, key, of, titles)));
}

type Counted = StateCount & { causeKey: HealthCause };
const isUnwell = (one: StateCount): one is Counted => one.causeKey !== null && (one.state === 'action_needed' || one.state === 'degraded');

/** A provider that does not answer leaves some retried, some uncertain and some not renewed in time: all of that is one cause. */
function groupsOf(counted: readonly StateCount[]): Map<string, Counted[]> {
  const unwell = counted.filter(isUnwell);
  const lies = (one: Counted) => one.state === 'degraded' && HEALTH_CAUSES[one.causeKey] === 'provider';
  const down = new Set(unwell.filter(lies).map((one) => one.provider));
  const groups = new Map<string, Counted[]>();
  for (const one of unwell) {
    const isPart = lies(one) || (one.causeKey === 'overdue' && down.has(one.provider));
    const key = isPart ? ofProviderKey(one.provider) : ofClientKey(one);
    groups.set(key, [...(groups.get(key) ?? []), one]);
  }
  return groups;
}

async function groupCause(s: NoticeParts, key: string, of: readonly Counted[], titles: ReadonlyMap<string, string>): Promise<Cause> {
  const weight = (one: Counted) => (HEALTH_CAUSES[one.causeKey] === 'provider' ? 1e9 : 0) + one.count;
  const main = of.reduce((a, b) => (weight(b) > weight(a) ? b : a));
  const { provider, client, state, causeKey, example, evidence } = main;
  const level = HEALTH_CAUSES[causeKey];
  const count = of.reduce((sum, one) => sum + one.count, 0);
  const labels = await Promise.all(of.map((one) => s.store.noticeFacts.labelsOf(one)));
  const listed = `/connections?state=${state}&provider=${provider}`;
  return {
    ...plain,
    key,
    kind: 'connections',
    severity: state === 'action_needed' ? 'action' : 'warning',
    subject: level === 'provider' ? `provider:${provider}` : `client:${provider}/${client}`,
    title: groupInWords(causeKey, titles.get(provider) ?? provider, `${provider}/${client}`),
    evidence: causeKey === 'client_refused' ? (evidence ?? '') : '',
    remedy: remedyFor(causeKey),
    page: level === 'client' ? `/providers/${provider}/clients/${client}` : count === 1 ? `/connections/${example}` : listed,
    command: count === 1 ? `rk connection show ${example}` : `rk connection list --state ${state} --provider ${provider}`,
    labels: [...new Set(labels.flat())].sort(),
    count,
    settleMs: state === 'degraded' ? s.settings.noticeSettleMs : Math.min(ACTION_SETTLE_MS, s.settings.noticeSettleMs),
  };
}

/** A channel that does not work is a notice in the console, and on the other channels. */
const channelCause = (one: ChannelRow): Cause => ({
  ...plain,
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
      ...plain,
      key: 'installation:held',
      kind: 'installation',
      severity: 'action',
      subject: 'installation',
      title: 'Renewals of rotating grants are on hold',
      evidence: why ?? '',
      remedy: 'Make sure that no other installation uses this database, then take over.',
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
      ...plain,
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
      ...plain,
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

async function upcomingCauses(s: NoticeParts, now: number): Promise<Cause[]> {
  const items = (await upcoming(s, UPCOMING_DAYS)).filter((one) => one.noticeAt <= now);
  const byKind = new Map<string, Upcoming[]>();
  for (const one of items) byKind.set(one.kind, [...(byKind.get(one.kind) ?? []), one]);
  return [...byKind.values()].flatMap((all) => (all.length > ONE_BY_ONE_MOST ? [together(all, now)] : all.map((one) => upcomingCause(one, now))));
}

/** What nothing depends on, and awaited approvals, are good to know; whatever else stops needs action from the latest moment to begin. */
function upcomingSeverity({ kind, at, actBy, who }: Upcoming, now: number): Cause['severity'] {
  const isSpare = kind === 'invitations' || kind === 'standby';
  if (who === 'provider' || (isSpare && at > now)) return 'info';
  return actBy <= now ? 'action' : 'warning';
}
const upcomingCause = (one: Upcoming, now: number): Cause => ({
  ...plain,
  key: `upcoming:${one.key}`.slice(0, 190),
  kind: 'upcoming',
  severity: upcomingSeverity(one, now),
  subject: one.page.startsWith('/connections/') ? `connection:${one.page.split('/')[2]}` : 'installation',
  title: upcomingTitle(one, now),
  evidence: one.breaks.callers.length > 0 ? `Used by ${one.breaks.callers.slice(0, 5).join(', ')}` : '',
  remedy: one.remedy,
  page: one.page,
  command: one.command,
  labels: one.labels,
  count: one.breaks.connections,
  dueAt: one.at,
});
function together(all: readonly Upcoming[], now: number): Cause {
  const [first] = all as [Upcoming, ...Upcoming[]];
  return {
    ...upcomingCause(first, now),
    key: `upcoming:many:${first.kind}`,
    subject: 'installation',
    title: `${all.length} of one kind expire within ${UPCOMING_DAYS} days, the first: ${withoutAccount(first)}`,
    page: '/upcoming',
    command: `rk upcoming --days ${UPCOMING_DAYS}`,
    labels: [...new Set(all.flatMap((one) => one.labels))].sort(),
    count: all.reduce((sum, one) => sum + one.breaks.connections, 0),
  };
}

const Outcome = z.object({ completeness: Completeness.nullable(), problem: RunProblem.nullable() });

/** By the last run that ended: a good one ends it. */
async function jobCauses(s: NoticeParts): Promise<Cause[]> {
  const runs = await s.store.noticeFacts.lastRuns();
  return runs.flatMap((run): Cause[] => {
    const read = run.outcome === null ? null : Outcome.safeParse(JSON.parse(run.outcome));
    const { problem, completeness } = read?.success ? read.data : { problem: null, completeness: null };
    const of = (what: string, severity: Cause['severity'], title: string, evidence: string, remedy: string): Cause => ({
      ...plain,
      key: `job:${run.job}:${what}`,
      kind: 'job',
      severity,
      subject: `job:${run.job}`,
      title,
      evidence,
      remedy,
      page: `/jobs/${run.job}`,
      command: `rk job runs ${run.job}`,
      labels: run.labels,
      count: 1,
    });
    if (run.state === 'failed')
      return [
        of('failed', 'action', `Run ${run.number} of ${run.job} failed`, problem?.says ?? '', problem?.remedy ?? 'Run it again, and read why it failed.'),
      ];
    const against = completeness?.evidence.find((one) => one.side === 'against')?.says ?? '';
    if (completeness?.verdict === 'incomplete')
      return [
        of('incomplete', 'action', `Run ${run.number} of ${run.job} is not complete`, against, 'Run it again. The last complete result is still served.'),
      ];
    if (completeness?.deviates)
      return [
        of(
          'deviates',
          'warning',
          `Run ${run.number} of ${run.job} brought a very different number of records`,
          against,
          'Compare it with the run before. A new complete run of similar size closes this.',
        ),
      ];
    return [];
  });
}

async function peopleCauses(s: NoticeParts): Promise<Cause[]> {
  return (await s.store.noticeFacts.peopleLost()).map(({ shared, count, labels }) => ({
    ...plain,
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

/** Seen at least this long apart, so that one bad moment is no news. */
const SEEN_AGAIN_MS = 3_600_000;

/** What renewals and calls show, where the definition states the opposite. */
async function definitionCauses(s: NoticeParts): Promise<Cause[]> {
  const seen = await s.store.noticeFacts.sightings();
  const causes: Cause[] = [];
  const told = new Set<string>();
  for (const one of seen) {
    const kind = one.what === 'access_token_short_lived' ? 'lifetime' : 'rotation';
    if (told.has(`${one.provider} ${kind}`)) continue;
    const { definition } = await connectionDefinition(s, { provider: one.provider, client: one.client, placeholders: {}, apiBaseUrl: null });
    const cause = kind === 'lifetime' ? lifetimeCause(definition, one) : rotationCause(definition, one);
    if (!cause) continue;
    told.add(`${one.provider} ${kind}`);
    causes.push(cause);
  }
  return causes;
}

type Seen = Awaited<ReturnType<NoticeParts['store']['noticeFacts']['sightings']>>[number];
const ofDefinition = (provider: string, about: 'rotation' | 'lifetime'): Cause => ({
  ...plain,
  ...{ key: `definition:${provider}:${about}`, kind: 'definition', severity: 'warning', subject: `provider:${provider}`, title: '', remedy: '' },
  page: `/providers/${provider}`,
  command: `rk provider show ${provider} --document`,
});

function rotationCause({ title, dialect: { rotation } }: ProviderDefinition, { provider, client, what }: Seen): Cause | null {
  const isOther = (rotation === 'never' && what === 'refresh_token_replaced') || (rotation === 'each_use' && what === 'refresh_token_kept');
  if (!isOther) return null;
  return {
    ...ofDefinition(provider, 'rotation'),
    // A token that is spent by its use, and is not known to be, is lost with the first lost answer.
    severity: rotation === 'never' ? 'action' : 'warning',
    title:
      rotation === 'never'
        ? `${title} replaces refresh tokens, though its definition states that it does not`
        : `${title} keeps refresh tokens, though its definition states that each use replaces them`,
    evidence: `Seen at the client ${provider}/${client} within the last 7 days. The definition states rotation: ${rotation}.`,
    remedy: `Change the definition: dialect.rotation: ${rotation === 'never' ? 'each_use' : 'unknown'}.`,
  };
}

function lifetimeCause({ title, dialect }: ProviderDefinition, { provider, client, firstAt, lastAt }: Seen): Cause | null {
  if (lastAt - firstAt < SEEN_AGAIN_MS) return null;
  const half = Math.max(10, Math.round(dialect.assumed_life_seconds / 2));
  return {
    ...ofDefinition(provider, 'lifetime'),
    title: `Access tokens of ${title} end earlier than stated`,
    evidence: `At the client ${provider}/${client} the API rejected tokens that should have been good, and took renewed ones, again within the last 7 days.`,
    remedy: `If its token answers name no lifetime, change the definition: dialect.assumed_life_seconds: ${half}. Else report it to the provider; calls are renewed and repeated meanwhile.`,
  };
}

/** A refresh token that works after its test phase shows that the client is open to everyone by now. */
async function publishedCauses(s: NoticeParts): Promise<Cause[]> {
  return (await s.store.noticeFacts.outlivedPhase(await testPhases(s))).map(({ clientId, provider, client, connection }) => ({
    ...plain,
    key: `published:${clientId}`,
    kind: 'approval',
    severity: 'info',
    subject: `client:${provider}/${client}`,
    title: `${provider}/${client} seems to be published`,
    evidence: `The refresh token of ${connection} was renewed after the test phase of listed accounts had expired.`,
    remedy: 'Look at the client\u2019s page at the provider. If anyone can sign in, enter that here: its expirations are then no longer forecast.',
    page: `/providers/${provider}/clients/${client}`,
    command: `rk client change ${provider}/${client} --reach anyone`,
  }));
}

/** News: it ends when someone has read it, or after two weeks. */
async function approvalCauses(s: NoticeParts, now: number): Promise<Cause[]> {
  return (await s.store.noticeFacts.approvalNews(now - APPROVAL_NEWS_MS)).map(({ entryId, subject, approval, says }) => {
    const client = subject.replace(/^client:/, '');
    const [provider, name] = client.split('/');
    return {
      ...plain,
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
    ...plain,
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
