import type { NotifiedCause } from '../../core/notices/letter.ts';
import { iso } from '../iso.ts';
import { recordId } from '../ports.ts';
import { runPeriodically } from '../run-periodically.ts';
import type { WriteRefusal } from '../store/write-refusals.ts';
import type { NoticeParts } from './parts.ts';
import { sendNow } from './send.ts';

const LOOK_MS = 1_000;
/** Replicas that were seen so shortly before the refusals began are taken to run. */
const SEEN_MS = 60_000;
const TITLE = 'The database refuses writes';
const REMEDY =
  'Free space on the disk of the database, or end its read-only mode. Until then tokens are issued and renewed; what providers answer waits in memory and in sealed files. Do not stop the service.';

/**
 * Reports when the database begins to refuse writes and when it takes them again: one line in the log each, and one message on each channel that sends
 * what needs action at once. The notice itself cannot be written down before it is over; then Activity records it. Ends when stopped.
 */
export async function watchWrites(s: NoticeParts, stop: AbortSignal): Promise<void> {
  let open: (WriteRefusal & { id: string; isReporter: boolean }) | null = null;
  await runPeriodically({ ports: s.ports, everyMs: LOOK_MS, failed: 'whether the database takes writes was not reported', stop }, async () => {
    const now = s.refusals.state();
    if (now !== null && open === null) {
      open = { ...now, id: recordId(s.ports), isReporter: await isFirst(s, now.since) };
      s.ports.log.error({ event: 'database.writes_refused', says: now.says, since: iso(now.since) }, `${TITLE}: ${now.says}`);
      if (open.isReporter) await send(s, message(open, null));
    }
    if (now === null && open !== null) {
      const over = open;
      open = null;
      const at = s.ports.clock.now();
      const says = `The database refused writes from ${iso(over.since)} to ${iso(at)} (${over.says}). What waited meanwhile is saved.`;
      s.ports.log.warn({ event: 'database.writes_accepted', seconds: Math.round((at - over.since) / 1000) }, 'the database takes writes again');
      if (over.isReporter) {
        s.history.add({ actor: 'service', kind: 'database_refused_writes', subject: 'installation', says });
        await send(s, message(over, at));
      }
    }
    return false;
  });
}

/** One replica reports for all: the one with the lowest ID of those that ran. */
async function isFirst(s: NoticeParts, since: number): Promise<boolean> {
  const running = (await s.store.replicas.all()).filter((one) => one.roles !== 'stopped' && one.seenAt >= since - SEEN_MS);
  return running.every((one) => one.instanceId >= s.instanceId);
}

const message = (refusal: WriteRefusal & { id: string }, closedAt: number | null): NotifiedCause => ({
  event: closedAt === null ? 'opened' : 'closed',
  page: '/',
  notice: {
    ...{ id: refusal.id, kind: 'installation', subject: 'installation', severity: 'action', labels: [], count: 0, dueAt: null },
    ...{ openedAt: refusal.since, closedAt, title: TITLE, evidence: refusal.says, remedy: REMEDY, command: 'rk status' },
  },
});

/** Nothing of it is recorded: a channel that does not take it is in the log. */
async function send(s: NoticeParts, told: NotifiedCause): Promise<void> {
  const channels = (await s.store.channels.list()).filter((one) => one.enabled && one.rule.severities.action === 'now');
  for (const channel of channels) {
    const sent = await sendNow(s, channel, { id: recordId(s.ports), told });
    if (!sent.done) s.ports.log.warn({ event: 'notices.not_sent', channel: channel.name, says: sent.says }, 'a notice that cannot be recorded was not sent');
  }
}
