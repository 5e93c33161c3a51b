import { applyUpdate, type Check, type ConditionalUpdate, type Expression, type Value } from '../../core/renewal/conditional-update.ts';
import type { RenewalCause, RenewalColumn, RenewalRow } from '../../core/renewal/row.ts';
import { batched } from './batched.ts';
import { type Bind, type Database, idBytes, idText, instantText } from './database.ts';

/** One claimed or read renewal row with its sealed tokens. */
export interface HeldRow {
  grantId: string;
  row: RenewalRow;
  /** The database's time of the reading, epoch ms. */
  readAt: number;
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
  /** Ids of due rows, read without a lock; those of `exceptClients` are left out. */
  dueIds(limit: number, exceptClients?: string[]): Promise<string[]>;
  /** Runs a transition on these grants; the number of rows it took hold of. */
  update(grantIds: string[], transition: ConditionalUpdate): Promise<number>;
  /** T2 for one row; written together with others that are armed at the same moment. True: it took hold. */
  arm(grantId: string, transition: ConditionalUpdate): Promise<boolean>;
  /** T4: the transition and the sealed tokens in one statement, together with other saves of the moment. True: it is saved. */
  save(grantId: string, transition: ConditionalUpdate, tokens: SealedTokens): Promise<boolean>;
  claimed(grantIds: string[], claimId: string): Promise<HeldRow[]>;
  read(grantId: string): Promise<HeldRow | null>;
  /** Rows left behind by former lives of this instance (T10). */
  leftBy(instanceId: string, lifeId: string): Promise<{ grantId: string; row: RenewalRow }[]>;
  insert(grantId: string, clientId: string, row: RenewalRow, tokens: SealedTokens): Promise<void>;
  /** All grants of one client that failed or wait, for when the client works again. */
  waitingOf(clientId: string, limit: number): Promise<string[]>;
  queue(): Promise<{ due: number; oldestAt: number | null }>;
}

/** How many rows go into one statement, and how many statements are under way at once. */
const BATCHES = { most: 64, atOnce: 2 };

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
const SNAKE = Object.fromEntries(COLUMNS.map((column) => [column, column.replace(/[A-Z]/g, (letter) => `_${letter.toLowerCase()}`)]));
const snake = (column: string): string => SNAKE[column] ?? column;
const SELECT = `SELECT r.grant_id, ${COLUMNS.map((column) => `r.${snake(column)} AS ${column}`).join(', ')}, t.access_sealed, t.refresh_sealed, UTC_TIMESTAMP(3) AS read_at FROM renewals r JOIN tokens t ON t.grant_id = r.grant_id`;

/** Compiles a transition to SQL; `place` says where a constant stands: as a parameter, or in a column of a list of rows. */
export function compile(update: ConditionalUpdate, place: (value: Bind) => string): { set: string; where: string } {
  const constant = (column: RenewalColumn, value: Value): string => {
    if (value === null) return 'NULL';
    return place(ID_COLUMNS.includes(column) ? idBytes(String(value)) : typeof value === 'boolean' ? Number(value) : value);
  };
  const fromNow = (ms: number): string => (ms === 0 ? 'UTC_TIMESTAMP(3)' : `UTC_TIMESTAMP(3) + INTERVAL ${place(Math.round(ms) * 1000)} MICROSECOND`);
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
    if ('instant' in one) return place(instantText(one.instant));
    if ('column' in one) return `r.${snake(one.column)}`;
    if ('now' in one) return fromNow(one.now);
    if ('plus' in one) return `r.${snake(one.plus[0])} + ${one.plus[1]}`;
    if ('coalesce' in one) return `COALESCE(r.${snake(one.coalesce[0])}, r.${snake(one.coalesce[1])})`;
    return `IF(${one.when.map(check).join(' AND ')}, ${expression(column, one.gives)}, ${expression(column, one.otherwise)})`;
  };
  const set = Object.entries(update.set).map(([column, one]) => `r.${snake(column)} = ${expression(column as RenewalColumn, one)}`);
  return { set: set.join(', '), where: update.where.map(check).join(' AND ') };
}

/** One row of a batch: its id, its constants in order, and the statement's text without them. */
interface Templated {
  grantId: string;
  values: Bind[];
  shape: string;
}
interface ToSave {
  grantId: string;
  transition: ConditionalUpdate;
  tokens: SealedTokens | null;
}

const WHERE = ' WHERE ';
const isSame = (a: Bind, b: Bind): boolean => a === b || (Buffer.isBuffer(a) && Buffer.isBuffer(b) && a.equals(b));

function template({ grantId, transition, tokens }: ToSave): Templated {
  const values: Bind[] = [];
  const place = (value: Bind): string => `v.p${values.push(value)}`;
  const { set, where } = compile(transition, place);
  const access = tokens ? `, t.access_sealed = ${place(tokens.accessSealed)}` : '';
  const refresh = tokens?.refreshSealed ? `, t.refresh_sealed = ${place(tokens.refreshSealed)}` : '';
  return { grantId, values, shape: `SET ${set}${access}${refresh}${WHERE}${where}` };
}

export function renewalStore(database: Database): RenewalStore {
  const idList = (ids: string[], bind: Bind[]): string => ids.map((id) => `$${bind.push(idBytes(id))}`).join(', ');
  /** Rows of one shape in one UPDATE: each with its own condition and values. True for those of which it took hold. */
  const runShape = async (items: Templated[], withTokens: boolean, tookHold: (held: HeldRow, item: Templated) => boolean): Promise<Map<string, boolean>> => {
    const sorted = [...items].sort((a, b) => (a.grantId < b.grantId ? -1 : 1)); // one order for all: fewer deadlocks
    const ids = sorted.map((one) => idBytes(one.grantId));
    const bind: Bind[] = [ids.map((id) => id.toString('hex').toUpperCase()).join(',')];
    const row = 'FIND_IN_SET(HEX(r.grant_id), $1)';
    // A list of values, and the row's place in it: a derived table of as many rows costs MariaDB twenty times as much.
    const shape = (sorted[0]?.shape ?? '').replace(/\bv\.p(\d+)\b/g, (_all, column: string) => {
      const values = sorted.map((one) => one.values[Number(column) - 1] ?? null);
      if (values.every((value) => isSame(value, values[0] ?? null))) return `$${bind.push(values[0] ?? null)}`;
      return `ELT(${row}, ${values.map((value) => `$${bind.push(value)}`).join(', ')})`;
    });
    const [assignments, condition] = shape.split(WHERE) as [string, string];
    const tokens = withTokens ? 'JOIN tokens t ON t.grant_id = r.grant_id ' : '';
    const changed = await database.write(
      `UPDATE renewals r FORCE INDEX (PRIMARY) ${tokens}${assignments}${WHERE}r.grant_id IN (${ids.map((id) => `$${bind.push(id)}`).join(', ')}) AND ${condition}`,
      bind,
    );
    // Every row that is taken changes in each of its tables, so that a full count says that all were.
    if (changed === items.length * (withTokens ? 2 : 1)) return new Map(items.map((one) => [one.grantId, true]));
    if (changed === 0) return new Map(items.map((one) => [one.grantId, false]));
    const held = new Map((await readMany(items.map((one) => one.grantId))).map((one) => [one.grantId, one]));
    return new Map(items.map((one) => [one.grantId, held.has(one.grantId) && tookHold(held.get(one.grantId) as HeldRow, one)]));
  };
  const runBatch = async (items: ToSave[], tookHold: (held: HeldRow, transition: ConditionalUpdate) => boolean): Promise<boolean[]> => {
    const firsts = new Map<string, ToSave>();
    for (const item of items) if (!firsts.has(item.grantId)) firsts.set(item.grantId, item);
    const byShape = new Map<string, Templated[]>();
    for (const item of firsts.values()) {
      const one = template(item);
      byShape.set(one.shape, [...(byShape.get(one.shape) ?? []), one]);
    }
    const results = new Map<ToSave, boolean>();
    for (const group of byShape.values()) {
      const of = (one: Templated) => firsts.get(one.grantId) as ToSave;
      const withTokens = group.some((one) => of(one).tokens !== null);
      const took = await runShape(group, withTokens, (row, one) => tookHold(row, of(one).transition));
      for (const one of group) results.set(of(one), took.get(one.grantId) ?? false);
    }
    // A second transition of the same row does not go into the same statement.
    for (const item of items) if (!results.has(item)) results.set(item, (await runBatch([item], tookHold))[0] ?? false);
    return items.map((item) => results.get(item) ?? false);
  };
  const readMany = async (grantIds: string[]): Promise<HeldRow[]> => {
    const bind: Bind[] = [];
    return (await database.select<StoredRow>(`${SELECT} WHERE r.grant_id IN (${idList(grantIds, bind)})`, bind)).map(heldRow);
  };
  const constantOf = (transition: ConditionalUpdate, column: RenewalColumn): Value => {
    const given = transition.set[column];
    return given && 'value' in given ? given.value : null;
  };
  // An arm does not touch its own condition: what holds it now, and is marked as sent, was armed.
  const armTook = ({ row, readAt }: HeldRow, arm: ConditionalUpdate) =>
    row.sentEpoch === constantOf(arm, 'sentEpoch') && row.sentBy === constantOf(arm, 'sentBy') && applyUpdate(arm, row, readAt) !== null;
  const saveTook = ({ row }: HeldRow, save: ConditionalUpdate) =>
    (['savedEpoch', 'generation', 'parentGeneration'] as const).every((column) => row[column] === constantOf(save, column));
  const armSoon = batched<ToSave, boolean>((items) => runBatch(items, armTook), BATCHES);
  const saveSoon = batched<ToSave, boolean>((items) => runBatch(items, saveTook), BATCHES);
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
    arm: (grantId, transition) => armSoon({ grantId, transition, tokens: null }),
    save: (grantId, transition, tokens) => saveSoon({ grantId, transition, tokens }),
    async update(grantIds, transition) {
      if (grantIds.length === 0) return 0;
      const bind: Bind[] = [];
      const { set, where } = compile(transition, (value) => `$${bind.push(value)}`);
      return database.write(`UPDATE renewals r FORCE INDEX (PRIMARY) SET ${set} WHERE r.grant_id IN (${idList(grantIds, bind)}) AND ${where}`, bind);
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
    async insert(grantId, clientId, row, tokens) {
      const stored = COLUMNS.map((column) => storedValue(column, row[column]));
      await database.transaction(async (transaction) => {
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
