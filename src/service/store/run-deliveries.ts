import type { Transaction } from 'sequelize';
import { DeliveryTarget } from '../../api/jobs.ts';
import { oneOf, readColumn } from './column.ts';
import { type Database, idBytes, idText, instantText, intervalText } from './database.ts';

const DELIVERY_STATES = ['waiting', 'delivered', 'failed'] as const;
const STATE = oneOf(DELIVERY_STATES);
export interface DeliveryRow {
  runId: string;
  target: number;
  settings: DeliveryTarget;
  state: (typeof DELIVERY_STATES)[number];
  tries: number;
  says: string;
  nextAt: number;
}

/** Where the result of a run goes, target by target. */
export interface RunDeliveries {
  deliveries(runIds: readonly string[]): Promise<DeliveryRow[]>;
  dueDeliveries(most: number): Promise<DeliveryRow[]>;
  /** Takes a delivery for a while; whoever does not report back leaves it to others afterwards. */
  claimDelivery(row: DeliveryRow, forMs: number): Promise<boolean>;
  changeDelivery(row: DeliveryRow): Promise<void>;
}

const SHOWN = 'SELECT run_id, target, settings, state, tries, says, next_at FROM deliveries';
const readDelivery = (row: Record<string, unknown>): DeliveryRow => ({
  runId: idText(row.run_id as Buffer),
  target: Number(row.target),
  settings: DeliveryTarget.parse(JSON.parse(String(row.settings))),
  state: readColumn(STATE, row.state, { table: 'deliveries', column: 'state', row: idText(row.run_id as Buffer) }),
  tries: Number(row.tries),
  says: String(row.says),
  nextAt: (row.next_at as Date).getTime(),
});

/** `add` belongs to the transaction that ends the run. */
export function runDeliveries(database: Database): RunDeliveries & { add(row: DeliveryRow, transaction: Transaction): Promise<number> } {
  return {
    add: (row, transaction) =>
      database.write(
        'INSERT INTO deliveries (run_id, target, settings, state, tries, says, next_at) VALUES ($1, $2, $3, $4, $5, $6, $7)',
        [idBytes(row.runId), row.target, JSON.stringify(row.settings), row.state, row.tries, row.says, instantText(row.nextAt)],
        transaction,
      ),
    async deliveries(runIds) {
      if (runIds.length === 0) return [];
      const marks = runIds.map((_id, at) => `$${at + 1}`).join(', ');
      return (await database.select<Record<string, unknown>>(`${SHOWN} WHERE run_id IN (${marks}) ORDER BY run_id, target`, runIds.map(idBytes))).map(
        readDelivery,
      );
    },
    async dueDeliveries(most) {
      const rows = await database.select<Record<string, unknown>>(
        `${SHOWN} WHERE state = 'waiting' AND next_at <= UTC_TIMESTAMP(3) ORDER BY next_at LIMIT ${Math.floor(most)}`,
      );
      return rows.map(readDelivery);
    },
    claimDelivery: async (row, forMs) =>
      (await database.write(
        `UPDATE deliveries SET next_at = UTC_TIMESTAMP(3) + ${intervalText(forMs)} WHERE run_id = $1 AND target = $2 AND state = 'waiting' AND next_at <= UTC_TIMESTAMP(3)`,
        [idBytes(row.runId), row.target],
      )) > 0,
    changeDelivery: async (row) =>
      void (await database.write('UPDATE deliveries SET state = $1, tries = $2, says = $3, next_at = $4 WHERE run_id = $5 AND target = $6', [
        row.state,
        row.tries,
        row.says.slice(0, 600),
        instantText(row.nextAt),
        idBytes(row.runId),
        row.target,
      ])),
  };
}
