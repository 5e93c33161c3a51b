import { z } from 'zod';
import { PERSON_EVENTS } from '../../core/people/event.ts';
import { bytes, id, instant, json, number, oneOf, orNull, rowReader, text } from './column.ts';
import { type Bind, type Database, idBytes, instantText, intervalText } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const COLUMNS = {
  seq: number,
  id,
  sharedId: id,
  connectionId: id,
  /** Of the shared connection. */
  connectionName: text,
  personKey: text,
  kind: oneOf(PERSON_EVENTS),
  data: json(z.record(z.string(), z.unknown())),
  /** The application that invited the person, which alone gets it; null: an operator did, and all that may see people get it. */
  callerId: orNull(id),
  at: instant,
};
export type PersonEventRow = RowOf<typeof COLUMNS>;
const RECEIVER = { callerId: id, url: text, urlSealed: orNull(bytes), secretSealed: orNull(bytes), changedAt: instant };
export type ReceiverRow = RowOf<typeof RECEIVER>;
const EVENT_DELIVERY_STATES = ['waiting', 'delivered', 'failed'] as const;
const DELIVERY = {
  ...{ seq: number, callerId: id, state: oneOf(EVENT_DELIVERY_STATES), tries: number, nextAt: instant, says: text },
  ...{ kind: COLUMNS.kind, personKey: text, at: instant },
};
/** One event on its way to one application. */
export type EventDelivery = RowOf<typeof DELIVERY>;
const read = rowReader('event_deliveries', DELIVERY, 'seq');

/** What happened to people's connections, for the applications that may use them; and its deliveries. Instants are epoch ms. */
export interface PersonEventStore {
  /** Adds an event, with a delivery to each receiver that may see it. False: it was added before under this key. */
  add(row: Omit<PersonEventRow, 'seq'>, onceKey: string): Promise<boolean>;
  /** Whether an event was added under this key. */
  has(onceKey: string): Promise<boolean>;
  bySeq(seq: number): Promise<PersonEventRow | null>;
  /** Events after one that this caller may see, oldest first; only those older than `settledMs`, so that none comes late before them. */
  feed(callerRecordId: string, after: number, most: number, settledMs: number): Promise<PersonEventRow[]>;
  receiver(callerRecordId: string): Promise<ReceiverRow | null>;
  /** Addresses that an earlier version wrote: not checked for secrets yet. */
  unsealedReceivers(most: number): Promise<ReceiverRow[]>;
  /** Seals it in place: nothing else changes. */
  resealReceiver(row: ReceiverRow, set: Partial<ReceiverRow>): Promise<void>;
  setReceiver(row: ReceiverRow): Promise<void>;
  removeReceiver(callerRecordId: string): Promise<void>;
  due(most: number): Promise<EventDelivery[]>;
  /** Takes a delivery for a while. False: someone else has it. */
  claim(of: Pick<EventDelivery, 'seq' | 'callerId'>, forMs: number): Promise<boolean>;
  change(of: Pick<EventDelivery, 'seq' | 'callerId'>, set: Pick<EventDelivery, 'state' | 'tries' | 'nextAt' | 'says'>): Promise<void>;
  /** Newest first. */
  deliveries(callerRecordId: string, most: number): Promise<EventDelivery[]>;
  /** Sends failed deliveries of a caller again, or all since an event. @returns how many */
  replay(callerRecordId: string, fromSeq: number | null): Promise<number>;
  deleteOld(olderThanMs: number): Promise<void>;
}

/** The permission `p` lets its caller see an event `e`: it covers people, of the shared connection or by a label of it or of the person, and the caller invited them. */
const MAY_SEE = `p.people <> 'none' AND (e.caller_id IS NULL OR e.caller_id = p.caller_id) AND (p.connection_id = e.shared_id
  OR p.label IN (SELECT l.label FROM connection_labels l WHERE l.connection_id IN (e.shared_id, e.connection_id)))`;

export function personEventStore(database: Database): PersonEventStore {
  const table = defineTable(database, 'person_events', COLUMNS, { primaryKey: ['seq'] });
  const receivers = defineTable(database, 'event_receivers', RECEIVER, { primaryKey: ['callerId'] });
  const shown =
    'SELECT d.seq, d.caller_id AS callerId, d.state, d.tries, d.next_at AS nextAt, d.says, e.kind, e.person_key AS personKey, e.at FROM event_deliveries d JOIN person_events e ON e.seq = d.seq';
  return {
    add: (row, onceKey) =>
      database.attempt(async (transaction) => {
        const added = await database.write(
          `INSERT IGNORE INTO person_events (id, shared_id, connection_id, connection_name, person_key, kind, data, caller_id, once_key, at)
           VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)`,
          [
            ...[idBytes(row.id), idBytes(row.sharedId), idBytes(row.connectionId), row.connectionName, row.personKey, row.kind],
            ...[JSON.stringify(row.data), row.callerId === null ? null : idBytes(row.callerId), onceKey, instantText(row.at)],
          ],
          transaction,
        );
        if (added === 0) return false;
        await database.write(
          `INSERT INTO event_deliveries (seq, caller_id, state, tries, next_at, says)
           SELECT e.seq, r.caller_id, 'waiting', 0, UTC_TIMESTAMP(3), '' FROM person_events e JOIN event_receivers r
           WHERE e.id = $1 AND EXISTS (SELECT 1 FROM permissions p WHERE p.caller_id = r.caller_id AND ${MAY_SEE})`,
          [idBytes(row.id)],
          transaction,
        );
        return true;
      }),
    has: async (onceKey) => (await database.select('SELECT 1 AS found FROM person_events WHERE once_key = $1', [onceKey])).length > 0,
    bySeq: (seq) => table.find({ seq }),
    async feed(callerRecordId, after, most, settledMs) {
      const rows = await database.select<{ seq: number | string }>(
        `SELECT e.seq FROM person_events e
         WHERE e.seq > $1 AND e.at <= UTC_TIMESTAMP(3) - ${intervalText(settledMs)} AND EXISTS (
           SELECT 1 FROM permissions p WHERE p.caller_id = $2 AND ${MAY_SEE})
         ORDER BY e.seq LIMIT ${Math.floor(most)}`,
        [after, idBytes(callerRecordId)],
      );
      if (rows.length === 0) return [];
      return (await table.list({ seq: rows.map((row) => Number(row.seq)) })).sort((a, b) => a.seq - b.seq);
    },
    receiver: (callerRecordId) => receivers.find({ callerId: callerRecordId }),
    unsealedReceivers: (most) => receivers.list({ urlSealed: null }, { limit: most }),
    resealReceiver: async ({ callerId, url }, set) => void (await receivers.change({ callerId, url }, set)),
    async setReceiver(row) {
      await receivers.remove({ callerId: row.callerId });
      await receivers.insert(row);
    },
    async removeReceiver(callerRecordId) {
      await receivers.remove({ callerId: callerRecordId });
      await database.write("DELETE FROM event_deliveries WHERE caller_id = $1 AND state <> 'delivered'", [idBytes(callerRecordId)]);
    },
    async due(most) {
      const rows = await database.select(`${shown} WHERE d.state = 'waiting' AND d.next_at <= UTC_TIMESTAMP(3) ORDER BY d.next_at LIMIT ${Math.floor(most)}`);
      return rows.map(read);
    },
    claim: async ({ seq, callerId }, forMs) =>
      (await database.write(
        `UPDATE event_deliveries SET next_at = UTC_TIMESTAMP(3) + ${intervalText(forMs)} WHERE seq = $1 AND caller_id = $2 AND state = 'waiting' AND next_at <= UTC_TIMESTAMP(3)`,
        [seq, idBytes(callerId)],
      )) > 0,
    change: async ({ seq, callerId }, { state, tries, nextAt, says }) =>
      void (await database.write('UPDATE event_deliveries SET state = $1, tries = $2, next_at = $3, says = $4 WHERE seq = $5 AND caller_id = $6', [
        ...[state, tries, instantText(nextAt), says.slice(0, 300)],
        ...[seq, idBytes(callerId)],
      ])),
    async deliveries(callerRecordId, most) {
      const rows = await database.select(`${shown} WHERE d.caller_id = $1 ORDER BY d.seq DESC LIMIT ${Math.floor(most)}`, [idBytes(callerRecordId)]);
      return rows.map(read);
    },
    async replay(callerRecordId, fromSeq) {
      const bind: Bind[] = [idBytes(callerRecordId)];
      const which = fromSeq === null ? "state = 'failed'" : `seq >= $${bind.push(fromSeq)}`;
      return database.write(
        `UPDATE event_deliveries SET state = 'waiting', tries = 0, next_at = UTC_TIMESTAMP(3), says = 'Sent again.' WHERE caller_id = $1 AND ${which}`,
        bind,
      );
    },
    async deleteOld(olderThanMs) {
      await database.write(`DELETE FROM person_events WHERE at < UTC_TIMESTAMP(3) - ${intervalText(olderThanMs)} LIMIT 5000`);
    },
  };
}
