import type { ConditionalUpdate } from '../../core/renewal/conditional-update.ts';
import type { RenewalCause, RenewalColumn, RenewalRow } from '../../core/renewal/row.ts';
import { type Bind, type Database, idBytes, idText, instantText, intervalText } from './database.ts';
import type { HeldRow, SealedTokens } from './held-row.ts';
import { ALL_MARKS, type SaveCount, saveCount } from './marks.ts';
import { rowBatches } from './row-batches.ts';
import { COLUMNS, compile, ID_COLUMNS, snake } from './transition-sql.ts';

/** The hot tables `renewals` and `tokens`. Each method is one autocommit statement, or one read. */
export interface RenewalStore {
  /** Ids of due rows, read without a lock; those of `exceptClients` are left out. */
  dueIds(limit: number, exceptClients?: string[]): Promise<string[]>;
  /** Runs a transition on these grants; the number of rows it took hold of. */
  update(grantIds: string[], transition: ConditionalUpdate): Promise<number>;
  /** T2 for one row; written together with others that are armed at the same moment. True: it took hold. */
  arm(grantId: string, transition: ConditionalUpdate): Promise<boolean>;
  /** T4: the transition and the sealed tokens in one statement, together with other saves of the moment. True: it is saved. */
  save(grantId: string, transition: ConditionalUpdate, tokens: SealedTokens): Promise<boolean>;
  /**
   * What a claim took; null: the database lacks saves that are known, so nothing may be sent. An arm wants its own claim in the database,
   * and the claim was made over all that is there now.
   */
  claimed(grantIds: string[], claimId: string): Promise<HeldRow[] | null>;
  read(grantId: string): Promise<HeldRow | null>;
  /** Grants that are not ended, in the order of their IDs, from one on. */
  present(after: string | null, most: number): Promise<HeldRow[]>;
  /** Rows left behind by former lives of this instance (T10). */
  leftBy(instanceId: string, lifeId: string): Promise<{ grantId: string; row: RenewalRow }[]>;
  insert(grantId: string, clientId: string, row: RenewalRow, tokens: SealedTokens): Promise<void>;
  /** All grants of one client that failed or wait, for when the client works again. */
  waitingOf(clientId: string, limit: number): Promise<string[]>;
  /** Whether any replica is renewing something, or has not saved what came of it. */
  underWay(): Promise<boolean>;
  queue(): Promise<{ due: number; oldestAt: number | null }>;
  /** Fixes instants that are impossible after the database clock was set back, so that they block nothing. Returns the number of rows. */
  fixInstants(limits: { leaseMs: number; holderWaitMs: number }): Promise<number>;
}

/** A token is issued at most so far in the future, as another replica\u2019s clock goes. */
const AHEAD_MS = 5_000;
const INSTANT_COLUMNS: readonly RenewalColumn[] = ['nextAt', 'leaseUntil', 'sentAt', 'uncertainSince', 'refusedAt', 'issuedAt', 'expiresAt'];
const SELECT = `SELECT r.grant_id, ${COLUMNS.map((column) => `r.${snake(column)} AS ${column}`).join(', ')}, t.access_sealed, t.refresh_sealed, UTC_TIMESTAMP(3) AS read_at FROM renewals r JOIN tokens t ON t.grant_id = r.grant_id`;

export function renewalStore(database: Database, count: SaveCount = saveCount()): RenewalStore {
  const idList = (ids: string[], bind: Bind[]): string => ids.map((id) => `$${bind.push(idBytes(id))}`).join(', ');
  const readMany = async (grantIds: string[]): Promise<HeldRow[]> => {
    const bind: Bind[] = [];
    return (await database.select<StoredRow>(`${SELECT} WHERE r.grant_id IN (${idList(grantIds, bind)})`, bind)).map(heldRow);
  };
  const batches = rowBatches(database, count, readMany);
  return {
    async dueIds(limit, exceptClients = []) {
      const bind: Bind[] = [];
      const except = exceptClients.length > 0 ? `AND client_id NOT IN (${idList(exceptClients, bind)}) ` : '';
      const rows = await database.select<{ grant_id: Buffer }>(
        `SELECT grant_id FROM renewals WHERE next_at <= UTC_TIMESTAMP(3) ${except}ORDER BY next_at LIMIT ${Math.floor(limit)}`,
        bind,
      );
      return rows.map((row) => idText(row.grant_id));
    },
    arm: (grantId, transition) => batches.arm({ grantId, transition, tokens: null }),
    save: (grantId, transition, tokens) => batches.save({ grantId, transition, tokens }),
    async update(grantIds, transition) {
      if (grantIds.length === 0) return 0;
      const bind: Bind[] = [];
      const { set, where } = compile(transition, (value) => `$${bind.push(value)}`);
      return database.write(`UPDATE renewals r FORCE INDEX (PRIMARY) SET ${set} WHERE r.grant_id IN (${idList(grantIds, bind)}) AND ${where}`, bind);
    },
    async claimed(grantIds, claimId) {
      const wanted = count.wanted();
      const bind: Bind[] = [];
      const rows = await database.select<StoredRow & { marks: unknown }>(
        `${SELECT.replace(' FROM ', `, ${ALL_MARKS} AS marks FROM `)} WHERE r.grant_id IN (${idList(grantIds, bind)}) AND r.claim_id = $${bind.push(idBytes(claimId))}`,
        bind,
      );
      if (wanted !== null && rows.some((row) => Number(row.marks) < wanted)) {
        count.doubt();
        return null;
      }
      return rows.map(heldRow);
    },
    async read(grantId) {
      const [row] = await database.select<StoredRow>(`${SELECT} WHERE r.grant_id = $1`, [idBytes(grantId)]);
      return row ? heldRow(row) : null;
    },
    async present(after, most) {
      const rows = await database.select<StoredRow>(`${SELECT} WHERE r.ended = 0 AND r.grant_id > $1 ORDER BY r.grant_id LIMIT ${Math.floor(most)}`, [
        after === null ? Buffer.alloc(0) : idBytes(after),
      ]);
      return rows.map(heldRow);
    },
    async leftBy(instanceId, lifeId) {
      const lives = 'SELECT life_id FROM replicas WHERE instance_id = $1 AND life_id <> $2';
      const bind = [idBytes(instanceId), idBytes(lifeId)];
      const rows = await database.select<StoredRow>(
        `${SELECT} WHERE r.next_at IS NOT NULL AND r.ended = 0 AND ((r.owner IN (${lives}) AND r.lease_until > UTC_TIMESTAMP(3)) OR (r.sent_by IN (${lives.replace('$1', '$3').replace('$2', '$4')}) AND (r.sent_epoch IS NOT NULL OR r.uncertain_since IS NOT NULL)))`,
        [...bind, ...bind],
      );
      return rows.map(heldRow);
    },
    async insert(grantId, clientId, row, tokens) {
      const stored = COLUMNS.map((column) => storedValue(column, row[column]));
      const mark = count.take('first');
      // Within a larger transaction nothing is acknowledged yet.
      const isWhole = database.around() === undefined;
      const inserted = database.transaction(async (transaction) => {
        const marks = stored.map((_value, at) => `$${at + 3}`).join(', ');
        await database.write(
          `INSERT INTO renewals (grant_id, client_id, ${COLUMNS.map(snake).join(', ')}) VALUES ($1, $2, ${marks})`,
          [idBytes(grantId), idBytes(clientId), ...stored],
          transaction,
        );
        await database.write(
          'INSERT INTO tokens (grant_id, access_sealed, refresh_sealed) VALUES ($1, $2, $3)',
          [idBytes(grantId), tokens.accessSealed, tokens.refreshSealed],
          transaction,
        );
        if (mark) await database.write('UPDATE marks SET mark = mark + 1 WHERE instance_id = $1 AND lane = $2', [mark.instance, mark.lane], transaction);
      });
      await inserted.catch((cause: unknown) => {
        if (isWhole) mark?.done('unknown');
        throw cause;
      });
      mark?.done(isWhole ? 'raised' : 'none');
    },
    async waitingOf(clientId, limit) {
      const rows = await database.select<{ id: Buffer }>(
        `SELECT g.id FROM connections c JOIN grants g ON g.id = c.current_grant_id JOIN renewals r ON r.grant_id = g.id WHERE c.client_id = $1 AND r.next_at IS NOT NULL AND r.cause IN ('client_refused', 'unconfirmed') LIMIT ${Math.floor(limit)}`,
        [idBytes(clientId)],
      );
      return rows.map((row) => idText(row.id));
    },
    async fixInstants({ leaseMs, holderWaitMs }) {
      const ahead = (ms: number) => `UTC_TIMESTAMP(3) + ${intervalText(ms)}`;
      // No lease is longer than one: whose end lies further away was written by a clock that was set back since.
      const freed = await database.write(`UPDATE renewals SET lease_until = NULL WHERE ended = 0 AND lease_until > ${ahead(2 * leaseMs)}`);
      const due = await database.write(
        `UPDATE renewals SET next_at = UTC_TIMESTAMP(3) WHERE ended = 0 AND next_at > UTC_TIMESTAMP(3) AND issued_at > ${ahead(AHEAD_MS)} AND lease_until IS NULL AND uncertain_since IS NULL AND sent_epoch IS NULL`,
      );
      const uncertain = await database.write(
        `UPDATE renewals SET next_at = ${ahead(leaseMs + holderWaitMs)} WHERE ended = 0 AND next_at > ${ahead(leaseMs + holderWaitMs)} AND issued_at > ${ahead(AHEAD_MS)} AND (uncertain_since IS NOT NULL OR sent_epoch IS NOT NULL)`,
      );
      return freed + due + uncertain;
    },
    underWay: async () => (await database.select('SELECT 1 AS yes FROM renewals WHERE lease_until > UTC_TIMESTAMP(3) LIMIT 1')).length > 0,
    async queue() {
      const [row] = await database.select<{ due: number | bigint; oldest: Date | null }>(
        'SELECT COUNT(*) AS due, MIN(next_at) AS oldest FROM renewals WHERE next_at <= UTC_TIMESTAMP(3)',
      );
      return { due: Number(row?.due ?? 0), oldestAt: row?.oldest?.getTime() ?? null };
    },
  };
}

type StoredRow = { grant_id: Buffer; read_at: Date; access_sealed: Buffer; refresh_sealed: Buffer | null } & Record<RenewalColumn, unknown>;

function storedValue(column: RenewalColumn, value: RenewalRow[RenewalColumn]): Bind {
  if (value === null) return null;
  if (ID_COLUMNS.includes(column)) return idBytes(String(value));
  if (INSTANT_COLUMNS.includes(column)) return instantText(Number(value));
  return typeof value === 'boolean' ? Number(value) : value;
}

function heldRow(stored: StoredRow): HeldRow {
  const read = (column: RenewalColumn): unknown => {
    const value = stored[column];
    if (value === null || value === undefined) return null;
    if (ID_COLUMNS.includes(column)) return idText(value as Buffer);
    if (INSTANT_COLUMNS.includes(column)) return (value as Date).getTime();
    if (column === 'ended') return Boolean(value);
    return column === 'cause' ? (value as RenewalCause) : Number(value);
  };
  const row = Object.fromEntries(COLUMNS.map((column) => [column, read(column)])) as unknown as RenewalRow;
  return { grantId: idText(stored.grant_id), row, readAt: stored.read_at.getTime(), accessSealed: stored.access_sealed, refreshSealed: stored.refresh_sealed };
}
