import type { HealthCause } from '../../core/health.ts';
import { type Bind, type Database, idBytes, idText, instantText } from './database.ts';

/** What is stored of a connection's shown state. `mark`: the one that was read with the facts. */
export interface StoredState {
  id: string;
  mark: number;
  state: string;
  causeKey: HealthCause | null;
  searchText: string;
  /** When it is to be worked out again at the latest, epoch ms. */
  checkAt: number;
}

/**
 * The shown state of each connection as columns, so that lists are filtered, sorted and counted in the database. `core/health.ts` alone
 * decides what the state is; whatever changes a connection marks it as due (`markDue`), and `renewal/connection-states.ts` works it out.
 */
export interface ConnectionStateStore {
  /** Connections whose state is to be worked out again. */
  due(most: number): Promise<string[]>;
  /** Marks the connections of a client as due, after the one with this ID; the last one marked, or null: all are. */
  markClient(clientId: string, after: string | null, most: number): Promise<string | null>;
  /** Writes states that were worked out from what was read at `readAt`, unless the connection was marked again or a later reading was written. */
  write(states: readonly StoredState[], readAt: number): Promise<void>;
}

/** Part of an UPDATE of `connections`: the state is due to be worked out again, and what is being worked out now is not to be written. */
export const MARK_DUE = { checkStateAt: 'UTC_TIMESTAMP(3)', stateMark: 'state_mark + 1' } as const;
export const MARKED_DUE = `check_state_at = ${MARK_DUE.checkStateAt}, state_mark = ${MARK_DUE.stateMark}`;

export function connectionStateStore(database: Database): ConnectionStateStore {
  return {
    async due(most) {
      const rows = await database.select<{ id: Buffer }>(
        `SELECT id FROM connections WHERE check_state_at <= UTC_TIMESTAMP(3) ORDER BY check_state_at LIMIT ${Math.floor(most)}`,
      );
      return rows.map((row) => idText(row.id));
    },
    async markClient(clientId, after, most) {
      const bind: Bind[] = [idBytes(clientId)];
      const from = after === null ? '' : `AND id > $${bind.push(idBytes(after))}`;
      const rows = await database.select<{ id: Buffer }>(`SELECT id FROM connections WHERE client_id = $1 ${from} ORDER BY id LIMIT ${Math.floor(most)}`, bind);
      if (rows.length === 0) return null;
      const ids: Bind[] = [];
      await database.write(`UPDATE connections SET ${MARKED_DUE} WHERE id IN (${rows.map((row) => `$${ids.push(row.id)}`).join(', ')})`, ids);
      return rows.length < most ? null : idText(rows.at(-1)?.id as Buffer);
    },
    async write(states, readAt) {
      if (states.length === 0) return;
      const bind: Bind[] = [states.map((one) => one.id.replaceAll('-', '').toUpperCase()).join(',')];
      const row = 'FIND_IN_SET(HEX(id), $1)';
      const each = (value: (one: StoredState) => Bind) => `ELT(${row}, ${states.map((one) => `$${bind.push(value(one))}`).join(', ')})`;
      const set = [
        `state = ${each((one) => one.state)}`,
        `cause_key = ${each((one) => one.causeKey)}`,
        `search_text = ${each((one) => one.searchText)}`,
        `check_state_at = ${each((one) => instantText(one.checkAt))}`,
        `state_at = $${bind.push(instantText(readAt))}`,
      ];
      await database.write(
        `UPDATE connections SET ${set.join(', ')}
         WHERE id IN (${states.map((one) => `$${bind.push(idBytes(one.id))}`).join(', ')})
           AND state_at <= $${bind.push(instantText(readAt))} AND state_mark = ${each((one) => one.mark)}`,
        bind,
      );
    },
  };
}
