import { NOTICE_EVENTS, NOTICE_KINDS, NOTICE_SEVERITIES, NOTICE_STATES, type NoticeKind, type NoticeSeverity } from '../../core/notices/notice.ts';
import { id, instant, number, oneOf, orNull, text, textList } from './column.ts';
import { type Bind, type Database, idBytes, idText, instantText, intervalText } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const COLUMNS = {
  id,
  /** The key of its cause while it is not closed: unique. */
  openKey: orNull(text),
  causeKey: text,
  kind: oneOf(NOTICE_KINDS),
  severity: oneOf(NOTICE_SEVERITIES),
  subject: text,
  title: text,
  evidence: text,
  remedy: text,
  page: text,
  command: text,
  labels: textList,
  connections: number,
  dueAt: orNull(instant),
  state: oneOf(NOTICE_STATES),
  firstSeenAt: instant,
  openedAt: orNull(instant),
  goneSince: orNull(instant),
  closedAt: orNull(instant),
  reminded: number,
  returns: number,
  acknowledgedBy: orNull(text),
  acknowledgedAt: orNull(instant),
  assignedTo: orNull(text),
  snoozedUntil: orNull(instant),
  revision: number,
};
export type NoticeRow = RowOf<typeof COLUMNS>;

const DELIVERY = {
  id,
  noticeId: id,
  channelId: id,
  event: oneOf(NOTICE_EVENTS),
  state: oneOf(['waiting', 'sent', 'failed', 'dropped']),
  createdAt: instant,
  nextAt: instant,
  says: text,
};
export type NoticeDelivery = RowOf<typeof DELIVERY>;

const anyLabel = (labels: readonly string[], bind: Bind[]): string =>
  `(${labels.map((label) => `JSON_CONTAINS(labels, JSON_QUOTE($${bind.push(label)}))`).join(' OR ')})`;

interface NoticeFilter {
  state: 'open' | 'closed';
  severity?: NoticeSeverity | undefined;
  kind?: NoticeKind | undefined;
  label?: string | undefined;
  /** With any of these. */
  labels?: readonly string[] | undefined;
  /** Opened before the one with this id. */
  before?: string | undefined;
  limit: number;
}

/** Notices and what channels send of them. Instants are epoch ms. */
export interface NoticeStore {
  /** Those that are not closed, those closed since then, and news of the last weeks, closed or not. */
  kept(closedSince: number, newsSince: number): Promise<NoticeRow[]>;
  /** The newest first. Null: `before` names none. */
  list(filter: NoticeFilter): Promise<NoticeRow[] | null>;
  /** Keys of the causes with an open notice. */
  openKeys(): Promise<Set<string>>;
  byId(noticeId: string): Promise<NoticeRow | null>;
  byIds(noticeIds: readonly string[]): Promise<NoticeRow[]>;
  /** False: another replica opened one for this cause. */
  add(row: NoticeRow, deliveries: readonly NoticeDelivery[]): Promise<boolean>;
  /** Changes it and queues what is sent, both or neither. False: someone changed it since. */
  change(row: Pick<NoticeRow, 'id' | 'revision'>, set: Partial<NoticeRow>, deliveries: readonly NoticeDelivery[]): Promise<boolean>;
  discard(row: Pick<NoticeRow, 'id' | 'revision'>): Promise<void>;
  /** Open ones by severity, without those that are snoozed. */
  counts(labels?: readonly string[]): Promise<Record<NoticeSeverity, number>>;
  /** What a channel has to send now, the oldest first. */
  due(channelId: string, most: number): Promise<NoticeDelivery[]>;
  /** Channels with something due. */
  channelsWithDue(): Promise<string[]>;
  /** Of these notices: which this channel sent as open. */
  toldOpened(channelId: string, noticeIds: readonly string[]): Promise<Set<string>>;
  queue(deliveries: readonly NoticeDelivery[]): Promise<void>;
  settle(deliveryIds: readonly string[], set: Partial<NoticeDelivery>): Promise<void>;
  deliveries(of: { channelId: string } | { noticeId: string }, most: number): Promise<NoticeDelivery[]>;
  /** Sends failed ones again. How many. */
  replay(channelId: string): Promise<number>;
  /** Deletes closed notices and their deliveries that are older than that. */
  deleteOld(olderThanMs: number): Promise<void>;
}

export function noticeStore(database: Database): NoticeStore {
  const table = defineTable(database, 'notices', COLUMNS, { primaryKey: ['id'] });
  const deliveries = defineTable(database, 'notice_deliveries', DELIVERY, { primaryKey: ['id'] });
  const listed = async (rows: Promise<{ id: Buffer }[]>): Promise<NoticeRow[]> => {
    const ids = (await rows).map((row) => idText(row.id));
    if (ids.length === 0) return [];
    const order = new Map(ids.map((one, at) => [one, at]));
    return (await table.list({ id: ids })).sort((a, b) => (order.get(a.id) ?? 0) - (order.get(b.id) ?? 0));
  };
  return {
    kept: (closedSince, newsSince) =>
      listed(
        database.select<{ id: Buffer }>(
          "SELECT id FROM notices WHERE state IN ('pending', 'open') OR closed_at >= $1 OR (kind = 'approval' AND closed_at >= $2) ORDER BY first_seen_at LIMIT 10000",
          [instantText(closedSince), instantText(newsSince)],
        ),
      ),
    async list({ state, severity, kind, label, labels, before, limit }) {
      const bind: Bind[] = [state];
      const all = ['state = $1'];
      if (severity) all.push(`severity = $${bind.push(severity)}`);
      if (kind) all.push(`kind = $${bind.push(kind)}`);
      if (label) all.push(`JSON_CONTAINS(labels, JSON_QUOTE($${bind.push(label)}))`);
      if (labels) all.push(anyLabel(labels, bind));
      if (before !== undefined) {
        const last = await table.find({ id: before });
        if (last?.openedAt == null) return null;
        const at = instantText(last.openedAt);
        all.push(`(opened_at < $${bind.push(at)} OR (opened_at = $${bind.push(at)} AND id < $${bind.push(idBytes(before))}))`);
      }
      return listed(
        database.select<{ id: Buffer }>(`SELECT id FROM notices WHERE ${all.join(' AND ')} ORDER BY opened_at DESC, id DESC LIMIT ${Math.floor(limit)}`, bind),
      );
    },
    async openKeys() {
      const rows = await database.select<{ open_key: string }>("SELECT open_key FROM notices WHERE state = 'open' AND open_key IS NOT NULL LIMIT 5000");
      return new Set(rows.map((row) => row.open_key));
    },
    byId: (noticeId) => table.find({ id: noticeId }),
    byIds: async (noticeIds) => (noticeIds.length === 0 ? [] : table.list({ id: noticeIds })),
    add: (row, queued) =>
      database.attempt(async (transaction) => {
        // A second one with this key is not there: the transaction that has it is first.
        const taken = await database.write(
          `INSERT IGNORE INTO notices (id, open_key, cause_key, kind, severity, subject, title, evidence, remedy, page, command, labels, connections, state, reminded,
             first_seen_at, opened_at, due_at, returns, revision) VALUES ($1, $2, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, 0, 0)`,
          [
            ...[idBytes(row.id), row.causeKey, row.kind, row.severity, row.subject, row.title, row.evidence, row.remedy, row.page, row.command],
            ...[JSON.stringify(row.labels), row.connections, row.state, row.reminded],
            ...[row.firstSeenAt, row.openedAt, row.dueAt].map((at) => (at === null ? null : instantText(at))),
          ],
          transaction,
        );
        if (taken === 0) return false;
        for (const one of queued) await deliveries.insert(one, transaction);
        return true;
      }),
    change: ({ id: noticeId, revision }, set, queued) =>
      database.attempt(async (transaction) => {
        if ((await table.change({ id: noticeId, revision }, { ...set, revision: revision + 1 }, transaction)) === 0) return false;
        for (const one of queued) await deliveries.insert(one, transaction);
        return true;
      }),
    discard: async ({ id: noticeId, revision }) => void (await table.remove({ id: noticeId, revision })),
    async counts(labels) {
      const bind: Bind[] = [];
      const ofLabels = labels ? ` AND ${anyLabel(labels, bind)}` : '';
      const rows = await database.select<{ severity: string; n: number | bigint }>(
        `SELECT severity, COUNT(*) AS n FROM notices WHERE state = 'open' AND (snoozed_until IS NULL OR snoozed_until <= UTC_TIMESTAMP(3))${ofLabels} GROUP BY severity`,
        bind,
      );
      const of = (severity: NoticeSeverity) => Number(rows.find((row) => row.severity === severity)?.n ?? 0);
      return { action: of('action'), warning: of('warning'), info: of('info') };
    },
    async due(channelId, most) {
      const rows = await database.select<{ id: Buffer }>(
        `SELECT id FROM notice_deliveries WHERE channel_id = $1 AND state = 'waiting' AND next_at <= UTC_TIMESTAMP(3) ORDER BY id LIMIT ${Math.floor(most)}`,
        [idBytes(channelId)],
      );
      return rows.length === 0 ? [] : deliveries.list({ id: rows.map((row) => idText(row.id)) }, { orderBy: 'id' });
    },
    async channelsWithDue() {
      const rows = await database.select<{ id: Buffer }>(
        `SELECT c.id FROM channels c WHERE c.enabled = 1 AND (c.busy_until IS NULL OR c.busy_until <= UTC_TIMESTAMP(3))
           AND EXISTS (SELECT 1 FROM notice_deliveries d WHERE d.channel_id = c.id AND d.state = 'waiting' AND d.next_at <= UTC_TIMESTAMP(3))`,
      );
      return rows.map((row) => idText(row.id));
    },
    async toldOpened(channelId, noticeIds) {
      if (noticeIds.length === 0) return new Set();
      const bind: Bind[] = [idBytes(channelId)];
      const rows = await database.select<{ id: Buffer }>(
        `SELECT DISTINCT notice_id AS id FROM notice_deliveries WHERE channel_id = $1 AND state = 'sent' AND event <> 'closed'
           AND notice_id IN (${noticeIds.map((one) => `$${bind.push(idBytes(one))}`).join(', ')})`,
        bind,
      );
      return new Set(rows.map((row) => idText(row.id)));
    },
    async queue(queued) {
      for (const one of queued) await deliveries.insert(one);
    },
    settle: async (deliveryIds, set) => void (deliveryIds.length > 0 && (await deliveries.change({ id: deliveryIds }, set))),
    async deliveries(of, most) {
      const [column, value] = 'channelId' in of ? ['channel_id', of.channelId] : ['notice_id', of.noticeId];
      const rows = await database.select<{ id: Buffer }>(`SELECT id FROM notice_deliveries WHERE ${column} = $1 ORDER BY id DESC LIMIT ${Math.floor(most)}`, [
        idBytes(value),
      ]);
      if (rows.length === 0) return [];
      return (await deliveries.list({ id: rows.map((row) => idText(row.id)) })).sort((a, b) => (a.id < b.id ? 1 : -1));
    },
    replay: (channelId) =>
      database.write(
        "UPDATE notice_deliveries SET state = 'waiting', created_at = UTC_TIMESTAMP(3), next_at = UTC_TIMESTAMP(3) WHERE channel_id = $1 AND state = 'failed' LIMIT 1000",
        [idBytes(channelId)],
      ),
    async deleteOld(olderThanMs) {
      const old = `UTC_TIMESTAMP(3) - ${intervalText(olderThanMs)}`;
      await database.write(`DELETE FROM notices WHERE state = 'closed' AND closed_at < ${old} LIMIT 2000`);
      await database.write(`DELETE FROM notice_deliveries WHERE state <> 'waiting' AND created_at < ${old} LIMIT 5000`);
    },
  };
}
