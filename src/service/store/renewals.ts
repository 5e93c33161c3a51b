import type { Check, ConditionalUpdate, Expression, Value } from '../../core/renewal/conditional-update.ts';
import type { RenewalCause, RenewalColumn, RenewalRow } from '../../core/renewal/row.ts';
import { type Bind, type Database, idBytes, idText, instantText } from './database.ts';

/** One claimed or read renewal row with its sealed tokens. */
export interface HeldRow {
  grantId: string;
  row: RenewalRow;
  accessSealed: Buffer;
  refreshSealed: Buffer | null;
}

export interface SealedTokens {
  accessSealed: Buffer;
  /** Null: the answer brought none, and the stored one stays. */
  refreshSealed: Buffer | null;
}

/** The hot tables `renewals` and `tokens`. Each method is one autocommit statement, or one read. */
export interface RenewalStore {
  /** Ids of due rows, read without a lock. */
  dueIds(limit: number): Promise<string[]>;
  /** Runs a transition on these grants; the number of rows it took hold of. */
  update(grantIds: string[], transition: ConditionalUpdate): Promise<number>;
  /** T4: the transition and the sealed tokens in one statement. True: it is saved. */
  save(grantId: string, transition: ConditionalUpdate, tokens: SealedTokens): Promise<boolean>;
  claimed(grantIds: string[], claimId: string): Promise<HeldRow[]>;
  read(grantId: string): Promise<HeldRow | null>;
  /** Rows left behind by former lives of this instance (T10). */
  leftBy(instanceId: string, lifeId: string): Promise<{ grantId: string; row: RenewalRow }[]>;
  insert(grantId: string, row: RenewalRow, tokens: SealedTokens): Promise<void>;
  /** All grants of one client that failed or wait, for when the client works again. */
  waitingOf(clientId: string, limit: number): Promise<string[]>;
  queue(): Promise<{ due: number; oldestAt: number | null }>;
}

const ID_COLUMNS: readonly RenewalColumn[] = ['owner', 'claimId', 'sentBy', 'uncertainBy'];
const INSTANT_COLUMNS: readonly RenewalColumn[] = ['nextAt', 'leaseUntil', 'sentAt', 'uncertainSince', 'refusedAt', 'issuedAt', 'expiresAt'];
const COLUMNS: readonly RenewalColumn[] = [
  'nextAt',
  'owner',
  'claimId',
  'epoch',
  'leaseUntil',
  'sentEpoch',
  'sentBy',
  'sentAt',
  'uncertainSince',
  'uncertainBy',
  'refusedAt',
  'generation',
  'parentGeneration',
  'savedEpoch',
  'failures',
  'ended',
  'cause',
  'issuedAt',
  'expiresAt',
];
const snake = (column: string): string => column.replace(/[A-Z]/g, (letter) => `_${letter.toLowerCase()}`);
const SELECT = `SELECT r.grant_id, ${COLUMNS.map((column) => `r.${snake(column)} AS ${column}`).join(', ')}, t.access_sealed, t.refresh_sealed FROM renewals r JOIN tokens t ON t.grant_id = r.grant_id`;

/** Compiles a transition to SQL; parameters are numbered in the order in which they appear. */
export function compile(update: ConditionalUpdate, bind: Bind[]): { set: string; where: string } {
  const param = (value: Bind): string => `$${bind.push(value)}`;
  const constant = (column: RenewalColumn, value: Value): string => {
    if (value === null) return 'NULL';
    if (ID_COLUMNS.includes(column)) return param(idBytes(String(value)));
    return typeof value === 'string' ? param(value) : String(Number(value));
  };
  const check = (one: Check): string => {
    if ('equal' in one) return `r.${snake(one.equal[0])} = ${constant(one.equal[0], one.equal[1])}`;
    if ('isNull' in one) return `r.${snake(one.isNull)} IS NULL`;
    if ('notNull' in one) return `r.${snake(one.notNull)} IS NOT NULL`;
    if ('anyOf' in one) return `(${one.anyOf.map((all) => `(${all.map(check).join(' AND ')})`).join(' OR ')})`;
    const [column, ms] = 'notAfterNow' in one ? one.notAfterNow : one.laterThanNow;
    return `r.${snake(column)} ${'notAfterNow' in one ? '<=' : '>'} ${fromNow(ms)}`;
  };
  const expression = (column: RenewalColumn, one: Expression): string => {
    if ('value' in one) return constant(column, one.value);
    if ('instant' in one) return param(instantText(one.instant));
    if ('column' in one) return `r.${snake(one.column)}`;
    if ('now' in one) return fromNow(one.now);
    if ('plus' in one) return `r.${snake(one.plus[0])} + ${one.plus[1]}`;
    if ('coalesce' in one) return `COALESCE(r.${snake(one.coalesce[0])}, r.${snake(one.coalesce[1])})`;
    return `IF(${one.when.map(check).join(' AND ')}, ${expression(column, one.gives)}, ${expression(column, one.otherwise)})`;
  };
  const set = Object.entries(update.set).map(([column, one]) => `r.${snake(column)} = ${expression(column as RenewalColumn, one)}`);
  return { set: set.join(', '), where: update.where.map(check).join(' AND ') };
}

const fromNow = (ms: number): string => (ms === 0 ? 'UTC_TIMESTAMP(3)' : `UTC_TIMESTAMP(3) + INTERVAL ${Math.round(ms) * 1000} MICROSECOND`);

export function renewalStore(database: Database): RenewalStore {
  const idList = (ids: string[], bind: Bind[]): string => ids.map((id) => `$${bind.push(idBytes(id))}`).join(', ');
  return {
    async dueIds(limit) {
      const rows = await database.select<{ grant_id: Buffer }>(
        `SELECT grant_id FROM renewals WHERE next_at <= UTC_TIMESTAMP(3) ORDER BY next_at LIMIT ${Math.floor(limit)}`,
      );
      return rows.map((row) => idText(row.grant_id));
    },
    async update(grantIds, transition) {
      if (grantIds.length === 0) return 0;
      const bind: Bind[] = [];
      const { set, where } = compile(transition, bind);
      return database.write(`UPDATE renewals r SET ${set} WHERE r.grant_id IN (${idList(grantIds, bind)}) AND ${where}`, bind);
    },
    async save(grantId, transition, tokens) {
      const bind: Bind[] = [];
      const { set, where } = compile(transition, bind);
      const access = `$${bind.push(tokens.accessSealed)}`;
      const refresh = tokens.refreshSealed ? `, t.refresh_sealed = $${bind.push(tokens.refreshSealed)}` : '';
      const changed = await database.write(
        `UPDATE renewals r JOIN tokens t ON t.grant_id = r.grant_id SET ${set}, t.access_sealed = ${access}${refresh} WHERE r.grant_id = $${bind.push(idBytes(grantId))} AND ${where}`,
        bind,
      );
      return changed > 0;
    },
    async claimed(grantIds, claimId) {
      const bind: Bind[] = [];
      const rows = await database.select<StoredRow>(
        `${SELECT} WHERE r.grant_id IN (${idList(grantIds, bind)}) AND r.claim_id = $${bind.push(idBytes(claimId))}`,
        bind,
      );
      return rows.map(heldRow);
    },
    async read(grantId) {
      const [row] = await database.select<StoredRow>(`${SELECT} WHERE r.grant_id = $1`, [idBytes(grantId)]);
      return row ? heldRow(row) : null;
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
    async insert(grantId, row, tokens) {
      const stored = COLUMNS.map((column) => storedValue(column, row[column]));
      await database.transaction(async (transaction) => {
        const marks = stored.map((_value, at) => `$${at + 2}`).join(', ');
        await database.write(
          `INSERT INTO renewals (grant_id, ${COLUMNS.map(snake).join(', ')}) VALUES ($1, ${marks})`,
          [idBytes(grantId), ...stored],
          transaction,
        );
        await database.write(
          'INSERT INTO tokens (grant_id, access_sealed, refresh_sealed) VALUES ($1, $2, $3)',
          [idBytes(grantId), tokens.accessSealed, tokens.refreshSealed],
          transaction,
        );
      });
    },
    async waitingOf(clientId, limit) {
      const rows = await database.select<{ id: Buffer }>(
        `SELECT g.id FROM connections c JOIN grants g ON g.id = c.current_grant_id JOIN renewals r ON r.grant_id = g.id WHERE c.client_id = $1 AND r.next_at IS NOT NULL AND r.cause = 'client_refused' LIMIT ${Math.floor(limit)}`,
        [idBytes(clientId)],
      );
      return rows.map((row) => idText(row.id));
    },
    async queue() {
      const [row] = await database.select<{ due: number | bigint; oldest: Date | null }>(
        'SELECT COUNT(*) AS due, MIN(next_at) AS oldest FROM renewals WHERE next_at <= UTC_TIMESTAMP(3)',
      );
      return { due: Number(row?.due ?? 0), oldestAt: row?.oldest?.getTime() ?? null };
    },
  };
}

type StoredRow = { grant_id: Buffer; access_sealed: Buffer; refresh_sealed: Buffer | null } & Record<RenewalColumn, unknown>;

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
  return { grantId: idText(stored.grant_id), row, accessSealed: stored.access_sealed, refreshSealed: stored.refresh_sealed };
}
