import type { Transaction } from 'sequelize';
import { DeliveryTarget } from '../../api/jobs.ts';
import { id, instant, json, number, oneOf, type RowOf, rowReader, text } from './column.ts';
import { type Database, idBytes, instantText, intervalText } from './database.ts';

const DELIVERY_STATES = ['waiting', 'delivered', 'failed'] as const;
const DELIVERY = { runId: id, target: number, settings: json(DeliveryTarget), state: oneOf(DELIVERY_STATES), tries: number, says: text, nextAt: instant };
export type DeliveryRow = RowOf<typeof DELIVERY>;

/** Where the result of a run goes, target by target. */
export interface RunDeliveries {
  deliveries(runIds: readonly string[]): Promise<DeliveryRow[]>;
  dueDeliveries(most: number): Promise<DeliveryRow[]>;
  /** Takes a delivery for a while; whoever does not report back leaves it to others afterwards. */
  claimDelivery(row: DeliveryRow, forMs: number): Promise<boolean>;
  changeDelivery(row: DeliveryRow): Promise<void>;
  /** Shows less of its address; where it goes is in the plan of its run. */
  maskDelivery(row: DeliveryRow): Promise<void>;
}

const SHOWN = 'SELECT run_id AS runId, target, settings, state, tries, says, next_at AS nextAt FROM deliveries';
const readDelivery = rowReader('deliveries', DELIVERY, 'runId');

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
      return (await database.select(`${SHOWN} WHERE run_id IN (${marks}) ORDER BY run_id, target`, runIds.map(idBytes))).map(readDelivery);
    },
    async dueDeliveries(most) {
      const rows = await database.select(`${SHOWN} WHERE state = 'waiting' AND next_at <= UTC_TIMESTAMP(3) ORDER BY next_at LIMIT ${Math.floor(most)}`);
      return rows.map(readDelivery);
    },
    claimDelivery: async (row, forMs) =>
      (await database.write(
        `UPDATE deliveries SET next_at = UTC_TIMESTAMP(3) + ${intervalText(forMs)} WHERE run_id = $1 AND target = $2 AND state = 'waiting' AND next_at <= UTC_TIMESTAMP(3)`,
        [idBytes(row.runId), row.target],
      )) > 0,
    maskDelivery: async (row) =>
      void (await database.write('UPDATE deliveries SET settings = $1 WHERE run_id = $2 AND target = $3', [
        JSON.stringify(row.settings),
        idBytes(row.runId),
        row.target,
      ])),
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
