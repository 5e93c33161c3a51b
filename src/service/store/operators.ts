import { bytes, id, instant, oneOf, orNull, text } from './column.ts';
import { type Database, idBytes } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const OPERATOR = { id, name: text, passwordHash: text, createdAt: instant };
const SESSION = { id, operatorId: id, hash: bytes, kind: oneOf(['browser', 'program']), createdAt: instant, endsAt: instant };
const TICKET = { id, kind: oneOf(['first_operator']), hash: bytes, endsAt: instant, spentAt: orNull(instant) };
type OperatorRow = RowOf<typeof OPERATOR>;
type SessionRow = RowOf<typeof SESSION>;
type TicketRow = RowOf<typeof TICKET>;

/** Operators, their sessions, and the one-time ticket of the first of them. Session tokens and tickets are stored as hashes. */
export interface OperatorStore {
  byName(name: string): Promise<OperatorRow | null>;
  byId(operatorId: string): Promise<OperatorRow | null>;
  any(): Promise<boolean>;
  add(row: OperatorRow): Promise<void>;
  changePassword(operatorId: string, passwordHash: string): Promise<void>;
  session(hash: Buffer): Promise<SessionRow | null>;
  /** Adds one, and deletes some that expired. */
  addSession(row: SessionRow): Promise<void>;
  endSession(sessionId: string): Promise<void>;
  /** Ends all sessions of an operator but one; how many. */
  endOtherSessions(operatorId: string, sessionId: string): Promise<number>;
  /** Replaces a ticket that was made before. */
  replaceTicket(row: TicketRow): Promise<void>;
  /** Whether the first operator's ticket is good: not spent, not expired, and there is no operator. */
  isTicketGood(hash: Buffer): Promise<boolean>;
  /** Spends it; false: it is not good anymore. */
  spendTicket(hash: Buffer): Promise<boolean>;
}

const GOOD = `hash = $1 AND kind = 'first_operator' AND spent_at IS NULL AND ends_at > UTC_TIMESTAMP(3) AND NOT EXISTS (SELECT 1 FROM operators)`;

export function operatorStore(database: Database): OperatorStore {
  const operators = defineTable(database, 'operators', OPERATOR, { primaryKey: ['id'] });
  const sessions = defineTable(database, 'sessions', SESSION, { primaryKey: ['id'] });
  const tickets = defineTable(database, 'tickets', TICKET, { primaryKey: ['id'] });
  return {
    byName: (name) => operators.find({ name }),
    byId: (operatorId) => operators.find({ id: operatorId }),
    any: async () => (await operators.count()) > 0,
    add: (row) => operators.insert(row),
    changePassword: async (operatorId, passwordHash) => void (await operators.change({ id: operatorId }, { passwordHash })),
    session: (hash) => sessions.find({ hash }),
    async addSession(row) {
      await sessions.insert(row);
      await database.write('DELETE FROM sessions WHERE ends_at < UTC_TIMESTAMP(3) LIMIT 100');
    },
    endSession: async (sessionId) => void (await sessions.remove({ id: sessionId })),
    endOtherSessions: (operatorId, sessionId) =>
      database.write('DELETE FROM sessions WHERE operator_id = $1 AND id <> $2', [idBytes(operatorId), idBytes(sessionId)]),
    async replaceTicket(row) {
      await tickets.remove({ kind: row.kind });
      await tickets.insert(row);
    },
    isTicketGood: async (hash) => (await database.select(`SELECT 1 AS good FROM tickets WHERE ${GOOD}`, [hash])).length > 0,
    spendTicket: async (hash) => (await database.write(`UPDATE tickets SET spent_at = UTC_TIMESTAMP(3) WHERE ${GOOD}`, [hash])) > 0,
  };
}
