import { isStillNews } from '../../core/notices/channel.ts';
import { type NotifiedCause, noticeEvent, noticeLetter } from '../../core/notices/letter.ts';
import type { Notice } from '../../core/notices/notice.ts';
import { GIVEN_UP_MS, nextTryMs } from '../../core/redelivery.ts';
import { type Posted, postWebhook } from '../outgoing/index.ts';
import { recordId } from '../ports.ts';
import { runPeriodically } from '../run-periodically.ts';
import type { ChannelRow } from '../store/channels.ts';
import type { NoticeDelivery } from '../store/notices.ts';
import { noticeOf } from './keep.ts';
import type { NoticeParts } from './parts.ts';
import { runScript } from './script.ts';

const LOOK_MS = 2_000;
const AT_ONCE = 500;
const EVENTS_AT_ONCE = 20;
const CLAIMED_MS = 120_000;
const DEADLINE_MS = 10_000;

/** Sends what is due on channels, one replica for each channel at a time. Ends when stopped. */
export const sendNotices = (s: NoticeParts, stop: AbortSignal): Promise<void> =>
  runPeriodically({ ports: s.ports, everyMs: LOOK_MS, failed: 'sending notices failed', stop }, async () => {
    const due = await s.store.notices.channelsWithDue();
    return (await Promise.all(due.map((channelId) => turn(s, channelId)))).includes(true);
  });

async function turn(s: NoticeParts, channelId: string): Promise<boolean> {
  if (!(await s.store.channels.claim(channelId, CLAIMED_MS))) return false;
  let outcome: Outcome | null = null;
  try {
    const channel = await s.store.channels.byId(channelId);
    if (!channel?.enabled) return false;
    const sent = await tell(s, channel);
    if (sent !== null) outcome = outcomeOf(s, channel, sent);
    return sent === null || sent.done;
  } finally {
    await s.store.channels.release(channelId, outcome);
  }
}

type Outcome = Pick<ChannelRow, 'busyUntil' | 'failingSince' | 'failures' | 'lastAt' | 'lastSays'>;
/** What is kept of an attempt: after a failure the channel rests, longer each time. */
function outcomeOf(s: NoticeParts, channel: ChannelRow, sent: Posted): Outcome {
  const now = s.ports.clock.now();
  const said = { lastAt: now, lastSays: sent.says.slice(0, 300) };
  if (sent.done) return { ...said, busyUntil: null, failingSince: null, failures: 0 };
  const restMs = nextTryMs({ tries: channel.failures, ageMs: 0, retryAfterMs: sent.retryAfterMs, spread: s.ports.random.unit() }) ?? 0;
  return { ...said, busyUntil: now + restMs, failingSince: channel.failingSince ?? now, failures: channel.failures + 1 };
}

/** Tells a channel what is due: in one mail, or event after event. Null: nothing of it was still news. */
async function tell(s: NoticeParts, channel: ChannelRow): Promise<Posted | null> {
  const due = await s.store.notices.due(channel.id, channel.kind === 'mail' ? AT_ONCE : EVENTS_AT_ONCE);
  const noticeIds = [...new Set(due.map((one) => one.noticeId))];
  const [rows, known] = await Promise.all([s.store.notices.byIds(noticeIds), s.store.notices.toldOpened(channel.id, noticeIds)]);
  const notices = new Map(rows.map((row) => [row.id, noticeOf(row)]));
  // Of one notice the last word counts.
  const last = new Map(due.map((one) => [one.noticeId, one]));
  const news = due.filter((one) => {
    const notice = notices.get(one.noticeId);
    return notice !== undefined && last.get(one.noticeId) === one && isStillNews(one.event, notice, known.has(one.noticeId));
  });
  const settled = due.filter((one) => !news.includes(one)).map((one) => one.id);
  await s.store.notices.settle(settled, { state: 'dropped', says: 'It was no longer news when it was due.' });
  const [first] = news;
  if (!first) return null;
  const told = (one: NoticeDelivery): NotifiedCause => ({ event: one.event, notice: notices.get(one.noticeId) as Notice, page: `/notices/${one.noticeId}` });
  if (channel.kind === 'mail') {
    const letter = noticeLetter(news.map(told), { url: s.settings.publicUrl, zone: channel.rule.zone });
    return done(s, news, mailed(await s.mail.send({ id: first.id, to: channel.recipients, ...letter })));
  }
  for (const one of news) {
    const attempt = await done(s, [one], await sendEvent(s, channel, told(one), { id: one.id, at: one.createdAt }));
    if (!attempt.done) return attempt; // what follows waits its turn, so that the order stays
  }
  return { done: true, says: 'Sent.' };
}

const mailed = (sent: Awaited<ReturnType<NoticeParts['mail']['send']>>): Posted => (sent.done ? sent : { ...sent, retryAfterMs: null });

/** Writes down how it went; what failed is tried again for a day. */
async function done(s: NoticeParts, sent: readonly NoticeDelivery[], attempt: Posted): Promise<Posted> {
  const now = s.ports.clock.now();
  const says = attempt.says.slice(0, 300);
  const idsOf = (of: readonly NoticeDelivery[]) => of.map((one) => one.id);
  const isOver = (one: NoticeDelivery) => !attempt.done && (attempt.isFinal || now - one.createdAt >= GIVEN_UP_MS);
  await s.store.notices.settle(idsOf(sent.filter(isOver)), { state: 'failed', says });
  await s.store.notices.settle(idsOf(sent.filter((one) => !isOver(one))), attempt.done ? { state: 'sent', says } : { says });
  return attempt;
}

async function sendEvent(s: NoticeParts, channel: ChannelRow, told: NotifiedCause, { id, at }: { id: string; at: number }): Promise<Posted> {
  const event = noticeEvent(told, { id: `ntc_${id}`, at, url: s.settings.publicUrl });
  if (channel.kind === 'script') {
    if (s.settings.scriptsFolder === null)
      return { done: false, says: 'No folder of programs is set: RUSTY_KETTLE_SCRIPTS_FOLDER.', isFinal: true, retryAfterMs: null };
    const ran = await runScript(s.settings.scriptsFolder, channel.script ?? '', event);
    return ran.done ? { done: true, says: ran.says } : { done: false, says: ran.says, isFinal: false, retryAfterMs: null };
  }
  const place = { table: 'channels', row: channel.id, column: 'secret_sealed' };
  return postWebhook(s.ports, {
    url: channel.url ?? '',
    id: `ntc_${id}`,
    contentType: 'application/cloudevents+json',
    body: JSON.stringify(event),
    secret: channel.secretSealed && (await s.sealer.open(place, channel.secretSealed)),
    deadlineMs: DEADLINE_MS,
  });
}

/** Sends one message now, past the queue; nothing of it is written down. */
export const sendNow = async (s: NoticeParts, channel: ChannelRow, { id, told }: { id: string; told: NotifiedCause }): Promise<Posted> =>
  channel.kind === 'mail'
    ? mailed(await s.mail.send({ id, to: channel.recipients, ...noticeLetter([told], { url: s.settings.publicUrl, zone: channel.rule.zone }) }))
    : sendEvent(s, channel, told, { id, at: s.ports.clock.now() });

/** Sends an example now, whatever the rules of the channel are. */
export async function sendExample(s: NoticeParts, channel: ChannelRow): Promise<{ done: boolean; says: string }> {
  const now = s.ports.clock.now();
  const id = recordId(s.ports);
  const told: NotifiedCause = {
    event: 'opened',
    page: '/settings/channels',
    notice: {
      ...{ id, kind: 'installation', subject: 'installation', severity: 'info', labels: [], count: 0, dueAt: null, openedAt: now, closedAt: null },
      ...{ title: `Test of the channel ${channel.name}`, evidence: '', remedy: 'Nothing to do: this is a test.', command: `rk channel test ${channel.name}` },
    },
  };
  const attempt = await sendNow(s, channel, { id, told });
  await s.store.channels.release(channel.id, outcomeOf(s, channel, attempt));
  return { done: attempt.done, says: attempt.says };
}
