import { z } from 'zod';
import { OPERATOR_STATES } from '../../api/operators.ts';
import { ROLES } from '../../api/roles.ts';
import { bytes, id, instant, json, number, oneOf, orElse, orNull, text, textList } from './column.ts';
import { type Database, idBytes } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

/** Of an account that was removed, the row stays: its name stands in the activity log, and must not become someone else's. */
const STATES = [...OPERATOR_STATES, 'removed'] as const;
const OPERATOR = {
  id,
  name: text,
  passwordHash: text,
  createdAt: instant,
  // Accounts of earlier versions could do everything.
  role: orElse(oneOf(ROLES), 'administrator'),
  /** Labels that limit it; none: no limit. */
  limits: orElse(textList, []),
  state: orElse(oneOf(STATES), 'active'),
  source: orElse(oneOf(['local', 'identity_provider']), 'local'),
  /** Issuer and subject at the identity provider. */
  subject: orNull(text),
  invitedBy: orNull(text),
  lastSeenAt: orNull(instant),
  revision: number,
};
const TICKET = {
  id,
  kind: oneOf(['first_operator', 'operator', 'second_step', 'identity']),
  hash: bytes,
  endsAt: instant,
  spentAt: orNull(instant),
  operatorId: orNull(id),
  data: orNull(json(z.record(z.string(), z.unknown()))),
  tries: number,
};
export type OperatorRow = RowOf<typeof OPERATOR>;
export type TicketRow = RowOf<typeof TICKET>;
/** An operator as lists show it. */
export type ListedOperator = OperatorRow & { sessions: number; factors: number };

/** Operators and one-time tickets. Tickets are stored as hashes. Instants are epoch ms. */
export interface OperatorStore {
  byName(name: string): Promise<OperatorRow | null>;
  byId(operatorId: string): Promise<OperatorRow | null>;
  bySubject(subject: string): Promise<OperatorRow | null>;
  /** By name, without those that were removed. */
  list(): Promise<ListedOperator[]>;
  any(): Promise<boolean>;
  /** @throws {Fault} NAME_TAKEN */
  add(row: OperatorRow): Promise<void>;
  changePassword(operatorId: string, passwordHash: string): Promise<void>;
  /** Sets them; false: the revision is another one by now. */
  change(operatorId: string, set: Partial<OperatorRow>, revision?: number): Promise<boolean>;
  /**
   * Sets them unless no administrator without limits who can sign in would be left.
   * @returns `last`: none would be left
   */
  /** Gives an account another name, also where notices are assigned to it. The activity log keeps the former one. */
  rename(operatorId: string, from: string, to: string): Promise<void>;
  changeUnlessLast(operatorId: string, set: Partial<OperatorRow>, revision?: number): Promise<'changed' | 'last' | 'conflict'>;
  /** Replaces tickets of this kind that were made before for the same operator. */
  replaceTicket(row: TicketRow): Promise<void>;
  addTicket(row: TicketRow): Promise<void>;
  /** One that is neither spent nor expired. */
  ticket(kind: TicketRow['kind'], hash: Buffer): Promise<TicketRow | null>;
  /** Counts a try; how many there were. */
  countTry(ticketId: string): Promise<number>;
  /** Spends it; false: it is not good anymore. */
  useUpTicket(ticketId: string): Promise<boolean>;
  /** Whether the first operator's ticket is good: not spent, not expired, and there is no operator. */
  isTicketGood(hash: Buffer): Promise<boolean>;
  /** Spends it; false: it is not good anymore. */
  spendTicket(hash: Buffer): Promise<boolean>;
}

const GOOD = `hash = $1 AND kind = 'first_operator' AND spent_at IS NULL AND ends_at > UTC_TIMESTAMP(3) AND NOT EXISTS (SELECT 1 FROM operators)`;
/** Who can sign in with a password and change anything; the way back in when an identity provider is down. */
const FULL = `COALESCE(role, 'administrator') = 'administrator' AND COALESCE(limits, '[]') = '[]' AND COALESCE(state, 'active') = 'active' AND COALESCE(source, 'local') = 'local'`;

export function operatorStore(database: Database): OperatorStore {
  const operators = defineTable(database, 'operators', OPERATOR, { primaryKey: ['id'] });
  const tickets = defineTable(database, 'tickets', TICKET, { primaryKey: ['id'] });
  const change = async (operatorId: string, set: Partial<OperatorRow>, revision?: number): Promise<boolean> => {
    if (revision === undefined) {
      const row = await operators.find({ id: operatorId });
      return row !== null && (await operators.change({ id: operatorId }, { ...set, revision: row.revision + 1 })) > 0;
    }
    return (await operators.change({ id: operatorId, revision }, { ...set, revision: revision + 1 })) > 0;
  };
  return {
    byName: (name) => operators.find({ name }),
    byId: (operatorId) => operators.find({ id: operatorId }),
    bySubject: (subject) => operators.find({ subject }),
    async list() {
      const [rows, counts] = await Promise.all([
        operators.list({}, { orderBy: 'name' }),
        database.select<{ name: string; sessions: number | bigint; factors: number | bigint }>(
          `SELECT o.name, (SELECT COUNT(*) FROM sessions s WHERE s.operator_id = o.id AND s.ends_at > UTC_TIMESTAMP(3)) AS sessions,
             (SELECT COUNT(*) FROM second_factors f WHERE f.operator_id = o.id AND f.verified_at IS NOT NULL) AS factors FROM operators o`,
        ),
      ]);
      const of = new Map(counts.map((one) => [one.name, one]));
      return rows
        .filter((row) => row.state !== 'removed')
        .map((row) => ({ ...row, sessions: Number(of.get(row.name)?.sessions ?? 0), factors: Number(of.get(row.name)?.factors ?? 0) }));
    },
    any: async () => (await operators.count()) > 0,
    add: (row) => operators.insert(row),
    changePassword: async (operatorId, passwordHash) => void (await operators.change({ id: operatorId }, { passwordHash })),
    change,
    rename: (operatorId, from, to) =>
      database.transaction(async (transaction) => {
        await operators.change({ id: operatorId }, { name: to }, transaction);
        await database.write('UPDATE notices SET assigned_to = $1 WHERE assigned_to = $2', [to, from], transaction);
      }),
    changeUnlessLast: (operatorId, set, revision) =>
      database.transaction(async (transaction) => {
        // Every such change locks the same rows in the same order, and writes: two at once cannot both see the other's administrator.
        await database.write(`UPDATE operators SET revision = revision WHERE ${FULL} ORDER BY id`, [], transaction);
        const others = await database.select<{ n: number | bigint }>(
          `SELECT COUNT(*) AS n FROM operators WHERE ${FULL} AND id <> $1`,
          [idBytes(operatorId)],
          transaction,
        );
        const row = await operators.find({ id: operatorId }, transaction);
        if (!row || (revision !== undefined && row.revision !== revision)) return 'conflict';
        const next = { ...row, ...set };
        const wasFull = isFull(row);
        if (wasFull && !isFull(next) && Number(others[0]?.n ?? 0) === 0) return 'last';
        await operators.change({ id: operatorId }, { ...set, revision: row.revision + 1 }, transaction);
        return 'changed';
      }),
    async replaceTicket(row) {
      await tickets.remove(row.operatorId === null ? { kind: row.kind } : { kind: row.kind, operatorId: row.operatorId });
      await tickets.insert(row);
    },
    async addTicket(row) {
      await tickets.insert(row);
      await database.write(`DELETE FROM tickets WHERE kind IN ('second_step', 'identity') AND ends_at < UTC_TIMESTAMP(3) LIMIT 100`);
    },
    async ticket(kind, hash) {
      const [row] = await database.select<{ id: Buffer }>(
        'SELECT id FROM tickets WHERE hash = $1 AND kind = $2 AND spent_at IS NULL AND ends_at > UTC_TIMESTAMP(3)',
        [hash, kind],
      );
      return row ? tickets.find({ hash }) : null;
    },
    async countTry(ticketId) {
      await database.write('UPDATE tickets SET tries = tries + 1 WHERE id = $1', [idBytes(ticketId)]);
      return (await tickets.find({ id: ticketId }))?.tries ?? Number.POSITIVE_INFINITY;
    },
    useUpTicket: async (ticketId) =>
      (await database.write('UPDATE tickets SET spent_at = UTC_TIMESTAMP(3) WHERE id = $1 AND spent_at IS NULL AND ends_at > UTC_TIMESTAMP(3)', [
        idBytes(ticketId),
      ])) > 0,
    isTicketGood: async (hash) => (await database.select(`SELECT 1 AS good FROM tickets WHERE ${GOOD}`, [hash])).length > 0,
    spendTicket: async (hash) => (await database.write(`UPDATE tickets SET spent_at = UTC_TIMESTAMP(3) WHERE ${GOOD}`, [hash])) > 0,
  };
}

const isFull = (row: OperatorRow): boolean => row.role === 'administrator' && row.limits.length === 0 && row.state === 'active' && row.source === 'local';
