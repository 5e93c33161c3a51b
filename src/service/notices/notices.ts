import type { z } from 'zod';
import type { Notice, NoticeDelivery as NoticeDeliveryView, NoticeShown, NoticesListed } from '../../api/notices.ts';
import { Fault } from '../../core/fault.ts';
import { iso, isoOrNull } from '../iso.ts';
import { type Asked, type Command, type Limits, limitsOf } from '../operation-call.ts';
import type { NoticeDelivery, NoticeRow } from '../store/notices.ts';
import type { NoticeParts } from './parts.ts';
import { isWhollyWithin, narrowed } from './within.ts';

const DELIVERIES_SHOWN = 100;
const MAX_SNOOZE_MS = 366 * 86_400_000;

const view = (row: NoticeRow): Notice => ({
  id: row.id,
  kind: row.kind,
  severity: row.severity,
  state: row.state === 'closed' ? 'closed' : 'open',
  subject: row.subject,
  title: row.title,
  evidence: row.evidence,
  remedy: row.remedy,
  page: row.page,
  command: row.command,
  labels: row.labels,
  connections: row.connections,
  due_at: isoOrNull(row.dueAt),
  opened_at: iso(row.openedAt ?? row.firstSeenAt),
  closed_at: isoOrNull(row.closedAt),
  acknowledged_by: row.acknowledgedBy,
  acknowledged_at: isoOrNull(row.acknowledgedAt),
  assigned_to: row.assignedTo,
  snoozed_until: isoOrNull(row.snoozedUntil),
  returns: row.returns,
});

/** Notices as an account may see them: what a notice says of objects beyond its limit is left out. */
async function shown(s: NoticeParts, rows: readonly NoticeRow[], labels: Limits): Promise<Notice[]> {
  if (labels === undefined) return rows.map(view);
  const states = await s.store.connectionList.countStates(labels);
  return Promise.all(rows.map(async (row) => ((await isWhollyWithin(s, row, labels)) ? view(row) : view(narrowed(row, labels, states)))));
}

export async function listNotices(s: NoticeParts, { query, actor }: Asked<'listNotices'>): Promise<z.output<typeof NoticesListed>> {
  const labels = limitsOf(actor.operator);
  const [found, counts] = await Promise.all([s.store.notices.list({ ...query, labels, limit: query.limit + 1 }), s.store.notices.counts(labels)]);
  if (!found) throw new Fault('NOT_FOUND', { detail: 'No notice has this ID: it may be older than what is kept.' });
  return { items: await shown(s, found.slice(0, query.limit), labels), more: found.length > query.limit, counts };
}

async function found(s: NoticeParts, noticeId: string): Promise<NoticeRow> {
  const row = /^[0-9a-f-]{36}$/.test(noticeId) ? await s.store.notices.byId(noticeId) : null;
  if (!row || row.state === 'pending') throw new Fault('NOT_FOUND', { detail: `Notice "${noticeId.slice(0, 40)}" not found.` });
  return row;
}

export async function showNotice(s: NoticeParts, { params, actor }: Asked<'showNotice'>): Promise<NoticeShown> {
  const row = await found(s, params.notice);
  const labels = limitsOf(actor.operator);
  const [notice] = await shown(s, [row], labels);
  if (labels !== undefined) return { ...(notice as Notice), deliveries: [] }; // channels are the installation's
  const [told, channels] = await Promise.all([s.store.notices.deliveries({ noticeId: row.id }, DELIVERIES_SHOWN), s.store.channels.list()]);
  const names = new Map(channels.map((one) => [one.id, one.name]));
  return { ...(notice as Notice), deliveries: told.map((one) => deliveryView(one, names.get(one.channelId) ?? '', row.title)) };
}

export const deliveryView = (one: NoticeDelivery, channel: string, title: string): NoticeDeliveryView => ({
  channel,
  notice: one.noticeId,
  title,
  event: one.event,
  state: one.state,
  at: iso(one.createdAt),
  due_at: iso(one.nextAt),
  says: one.says,
});

/**
 * Changes an open notice for everybody, and reads it again. The rounds change notices too: whoever meets one of them repeats the change.
 * @throws {Fault} OUTSIDE_LIMITS where the account may not see all that the notice is about
 */
async function change(s: NoticeParts, noticeId: string, set: Partial<NoticeRow>, { labels }: { labels: readonly string[] }): Promise<NoticeRow> {
  if (labels.length > 0 && !(await isWhollyWithin(s, await found(s, noticeId), labels)))
    throw new Fault('OUTSIDE_LIMITS', {
      detail: 'The notice is about more than your account may see. A change would hide it from others.',
      remedy: 'Ask an operator without this limit.',
    });
  for (let tries = 0; tries < 5; tries += 1) {
    const row = await found(s, noticeId);
    if (row.state === 'closed') throw new Fault('NOTICE_CLOSED', { detail: 'The notice is closed.' });
    if (await s.store.notices.change(row, set, [])) return found(s, noticeId);
  }
  throw new Fault('REVISION_CONFLICT');
}

export async function acknowledgeNotice(s: NoticeParts, { params, actor }: Command<'acknowledgeNotice'>): Promise<Notice> {
  const operator = actor.operator.name;
  const row = await change(s, params.notice, { acknowledgedBy: operator, acknowledgedAt: s.ports.clock.now() }, actor.operator);
  s.history.add({ actor: operator, kind: 'notice_acknowledged', subject: row.subject, says: `Acknowledged: ${row.title}.` });
  return view(row);
}

/** @throws {Fault} NOT_FOUND where there is no such operator */
export async function assignNotice(s: NoticeParts, { params, body, actor }: Command<'assignNotice'>): Promise<Notice> {
  if (body.to !== null && !(await s.store.operators.byName(body.to))) throw new Fault('NOT_FOUND', { detail: `Operator "${body.to}" not found.` });
  const row = await change(s, params.notice, { assignedTo: body.to }, actor.operator);
  const says = body.to === null ? `Assigned to nobody: ${row.title}.` : `Assigned to ${body.to}: ${row.title}.`;
  s.history.add({ actor: actor.operator.name, kind: 'notice_assigned', subject: row.subject, says });
  return view(row);
}

export async function snoozeNotice(s: NoticeParts, { params, body, actor }: Command<'snoozeNotice'>): Promise<Notice> {
  const until = body.until === null ? null : Date.parse(body.until);
  const now = s.ports.clock.now();
  if (until !== null && (until <= now || until > now + MAX_SNOOZE_MS))
    throw new Fault('INPUT_INVALID', {
      detail: 'A notice is snoozed until an instant within the next year.',
      places: [{ path: 'until', why: 'It is past, or more than a year away.' }],
    });
  const row = await change(s, params.notice, { snoozedUntil: until }, actor.operator);
  const says = until === null ? `No longer snoozed: ${row.title}.` : `Snoozed until ${iso(until)}: ${row.title}.`;
  s.history.add({ actor: actor.operator.name, kind: 'notice_snoozed', subject: row.subject, says });
  return view(row);
}
