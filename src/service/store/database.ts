import {
  ConnectionError,
  ConnectionRefusedError,
  DatabaseError,
  HostNotFoundError,
  HostNotReachableError,
  QueryTypes,
  Sequelize,
  type Transaction,
  UniqueConstraintError,
} from 'sequelize';
import { Fault } from '../../core/fault.ts';
import { scoped } from '../scoped.ts';
import { chained } from './chained.ts';
import type { Bind } from './ids.ts';
import { type WriteRefusals, writeRefusals } from './write-refusals.ts';

export { type Bind, idBytes, idText } from './ids.ts';

/** The one way to the database. Errors leave as Faults without their parameters, which may hold sealed values or names. */
export interface Database {
  sequelize: Sequelize;
  /** Whether it takes writes. */
  refusals: WriteRefusals;
  select<Row extends object = Record<string, unknown>>(sql: string, bind?: Bind[], transaction?: Transaction): Promise<Row[]>;
  /** Runs one INSERT, UPDATE or DELETE; the number of rows changed (both tables of a multi-table UPDATE count). */
  write(sql: string, bind?: Bind[], transaction?: Transaction): Promise<number>;
  run(sql: string): Promise<void>;
  /** @throws {Fault} DATABASE_UNAVAILABLE */
  ping(): Promise<void>;
  /** The time of the database, epoch ms. */
  now(): Promise<number>;
  /** `work` touches nothing but the database: it runs again when the transaction lost a deadlock. */
  transaction<T>(work: (transaction: Transaction) => Promise<T>): Promise<T>;
  /** A transaction that is rolled back where `work` returns false. */
  attempt(work: (transaction: Transaction) => Promise<boolean>): Promise<boolean>;
  /** Two statements in one round trip: `then` where `first` changes a row; both or neither. False: it changed none. */
  chained(first: string, then: string, bind: readonly Bind[]): Promise<boolean>;
  /** Everything that `work` does here is one transaction, whichever repository does it. */
  atomically<T>(work: () => Promise<T>): Promise<T>;
  /** The transaction of `atomically` in which this runs. */
  around(): Transaction | undefined;
  /**
   * Does one piece of `work` through Sequelize: errors leave as Faults, and what lost a deadlock, or reached no node while there are
   * others, is run again, unless it is part of a `transaction`, which was rolled back whole and runs again as a whole.
   */
  guarded<T>(work: () => Promise<T>, transaction?: Transaction): Promise<T>;
  close(): Promise<void>;
}

/**
 * STRICT: no value is cut or coerced in silence. SIMULTANEOUS_ASSIGNMENT: every expression of an UPDATE reads the row as it
 * was, as core/renewal/conditional-update.ts promises.
 */
const SQL_MODE = 'STRICT_ALL_TABLES,NO_ZERO_DATE,NO_ZERO_IN_DATE,ERROR_FOR_DIVISION_BY_ZERO,NO_ENGINE_SUBSTITUTION,SIMULTANEOUS_ASSIGNMENT';
const QUERY_LIMIT_MS = 5_000;
const POOL_IDLE_MS = 15_000;

/** InnoDB ends a deadlock by rolling one side back whole; Galera says a conflict between nodes in the same words. */
const DEADLOCK = 1213;
const DEADLOCK_RUNS = 5;
/** The server runs with `read_only`: a replica, or a former primary. */
const READ_ONLY = 1290;

/** A node that answers badly is left for the next one at most this often. */
const LEAVE_EVERY_MS = 1_000;

interface DatabaseOptions {
  /** How long one statement may take. */
  statementMs?: number;
  /** A rehearsal runs days in minutes: statements take its time for the present, and it hears of those under way. */
  time?: { now(): number; during<T>(work: Promise<T>): Promise<T> };
}

/**
 * `nodes`: HOST:PORT of a Galera cluster's nodes, or of a primary and its replicas, in this replica's order of preference. One is written to at a
 * time; when it fails, or is read-only, the next. Reads wait for what a cluster has committed (`wsrep_sync_wait`), so that a commit in doubt is read
 * and not guessed.
 */
export function openDatabase(url: string, poolSize = 16, nodes: readonly string[] = [], options: DatabaseOptions = {}): Database {
  const { statementMs = QUERY_LIMIT_MS, time } = options;
  const nodeOf = new WeakMap<object, string>();
  /** Counts how often a node was left; the current one is the remainder. */
  let turn = 0;
  let leftAt = Number.NEGATIVE_INFINITY;
  const node = (): string | undefined => nodes[turn % nodes.length];
  /** Many statements notice the same failure: only those that met it at the node in use leave it, and who was not reached at once. */
  const leave = (met: number, unreached: boolean): void => {
    if (nodes.length < 2 || met !== turn || (!unreached && performance.now() - leftAt < LEAVE_EVERY_MS)) return;
    leftAt = performance.now();
    turn += 1;
  };
  /** Addresses that were read-only when they were last connected to. */
  const readOnly = new Set<string>();
  /** Where no node takes writes, reading is better than nothing. @throws {HostNotReachableError} another node may take them */
  const passOverReadOnly = async (connection: DriverConnection, address: string): Promise<void> => {
    const [row] = (await connection.query('SELECT @@global.read_only AS read_only')) as { read_only: number | bigint }[];
    if (Number(row?.read_only) === 0) return void readOnly.delete(address);
    readOnly.add(address);
    if (nodes.every((one) => readOnly.has(one))) return;
    connection.destroy();
    throw new HostNotReachableError(new Error('It is read-only.'));
  };
  const sequelize = new Sequelize(url, {
    dialect: 'mariadb',
    logging: false,
    timezone: '+00:00',
    define: { timestamps: false, freezeTableName: true, underscored: true },
    pool: {
      max: poolSize,
      min: 0,
      acquire: QUERY_LIMIT_MS,
      idle: POOL_IDLE_MS,
      evict: 1_000,
      // A connection to a node that was left is not used again.
      ...(nodes.length > 0 && { validate: (connection: object) => nodeOf.get(connection) === node() && (connection as { isValid(): boolean }).isValid() }),
    },
    hooks: {
      beforeConnect: (config) => {
        const address = node();
        if (address) [config.host, config.port] = [address.slice(0, address.lastIndexOf(':')), address.slice(address.lastIndexOf(':') + 1)];
      },
      afterConnect: async (connection, config) => {
        const address = `${(config as { host: string }).host}:${(config as { port: string }).port}`;
        nodeOf.set(connection as object, address);
        if (nodes.length > 1) await passOverReadOnly(connection as DriverConnection, address);
        if (time) rehearse(connection as DriverConnection, time);
      },
    },
    retry: { max: 1 },
    dialectOptions: {
      connectTimeout: QUERY_LIMIT_MS,
      socketTimeout: POOL_IDLE_MS + statementMs,
      logParam: false,
      // Among the session variables it would hold for the next statement alone; with each transaction it would be one more statement.
      initSql: 'SET SESSION TRANSACTION ISOLATION LEVEL READ COMMITTED',
      sessionVariables: {
        sql_mode: SQL_MODE,
        innodb_lock_wait_timeout: 2,
        max_statement_time: statementMs / 1000,
        ...(nodes.length > 0 && { wsrep_sync_wait: 1 }),
      },
    },
  });
  const refusals = writeRefusals();
  const once = async <T>(work: () => Promise<T>): Promise<T> => {
    const met = turn;
    try {
      return await work();
    } catch (error) {
      const fault = scrub(error);
      if (takesNothing(errnoOf(fault))) refusals.refused((fault as Fault).detail ?? '');
      if (fault instanceof Fault && fault.code === 'DATABASE_UNAVAILABLE' && !lostDeadlock(fault)) leave(met, wasUnreached(fault) || wasReadOnly(fault));
      throw fault;
    }
  };
  // What was begun within, such as a timer, may run after its end: then it is outside.
  const surrounding = scoped<{ transaction: Transaction; isOver: boolean }>(0);
  const around = (): Transaction | undefined => {
    const found = surrounding.current();
    return found === undefined || found.isOver ? undefined : found.transaction;
  };
  const guarded = async <T>(work: () => Promise<T>, transaction = around()): Promise<T> => {
    for (let run = 1; ; run += 1) {
      try {
        return await once(work);
      } catch (fault) {
        const again = (lostDeadlock(fault) && run < DEADLOCK_RUNS) || ((wasUnreached(fault) || wasReadOnly(fault)) && run < nodes.length);
        if (transaction || !again) throw fault;
      }
    }
  };
  const transaction: Database['transaction'] = (work) => {
    const outer = around();
    return outer ? once(() => work(outer)) : guarded(() => sequelize.transaction(work));
  };
  const atomically: Database['atomically'] = (work) =>
    once(() =>
      sequelize.transaction(async (inside) => {
        const scope = { transaction: inside, isOver: false };
        try {
          return await surrounding.run(scope, work);
        } finally {
          scope.isOver = true;
        }
      }),
    );
  const select: Database['select'] = (sql, bind, transaction = around()) =>
    guarded(
      () => sequelize.query(sql, { type: QueryTypes.SELECT, ...(bind ? { bind } : {}), ...(transaction ? { transaction } : {}) }),
      transaction,
    ) as Promise<never>;
  return {
    sequelize,
    refusals,
    select,
    ping: async () => void (await select('SELECT 1')),
    async now() {
      const [row] = await select<{ at: Date }>('SELECT UTC_TIMESTAMP(3) AS at');
      if (!row) throw new Fault('DATABASE_UNAVAILABLE', { detail: 'It did not report its time.' });
      return row.at.getTime();
    },
    write: (sql, bind, transaction = around()) =>
      guarded(async () => {
        const [, changed] = (await sequelize.query(sql, {
          type: QueryTypes.UPDATE,
          ...(bind ? { bind } : {}),
          ...(transaction ? { transaction } : {}),
        })) as unknown as [unknown, number];
        refusals.accepted();
        return changed;
      }, transaction),
    run: (sql) => guarded(async () => void (await sequelize.query(sql, { type: QueryTypes.UPDATE }))),
    transaction,
    attempt: (work) =>
      transaction(async (inside) => {
        if (!(await work(inside))) throw NOT_TAKEN;
        return true;
      }).catch((error: unknown) => {
        if (error === NOT_TAKEN) return false;
        throw error;
      }),
    chained: (first, then, bind) => {
      if (around()) throw new Fault('INTERNAL', { detail: 'Chained statements are a transaction of their own.' });
      return guarded(() => chained(sequelize, first, then, bind));
    },
    atomically,
    around,
    guarded,
    close: () => sequelize.close(),
  };
}

/** What the driver's connection offers, as far as it is used here. */
interface DriverConnection {
  query(...statement: unknown[]): Promise<unknown>;
  destroy(): void;
}
/** Before each statement the session is told the time; both go out together, and are answered in order. */
function rehearse(connection: DriverConnection, time: NonNullable<DatabaseOptions['time']>): void {
  const query = connection.query.bind(connection);
  connection.query = async (...statement) => {
    const told = query(`SET timestamp = ${time.now() / 1000}`);
    const [, answer] = await time.during(Promise.all([told, query(...statement)]));
    return answer;
  };
}

const IS_REFERENCED = 1451;
const LACKS_REFERENCED = 1452;

/** Thrown to roll back an attempt, and caught with it. */
const NOT_TAKEN = new Error('rolled back');

/** Duplicate keys, lost connections and the rest, as Faults that carry no parameter and no SQL. */
function scrub(error: unknown): unknown {
  if (error instanceof Fault) return error;
  if (error instanceof UniqueConstraintError) return new Fault('NAME_TAKEN');
  if (error instanceof ConnectionError) {
    const unreached = UNREACHED.some((kind) => error instanceof kind);
    return new Fault('DATABASE_UNAVAILABLE', { detail: `${error.name}.`, cause: { unreached } });
  }
  if (error instanceof DatabaseError) {
    const { code, errno } = error.original as { code?: string; errno?: number };
    const detail = `${code ?? 'error'} ${errno ?? ''}`.trim();
    // Someone else was faster: foreign keys hold where a look before the write cannot.
    if (errno === IS_REFERENCED) return new Fault('IN_USE', { cause: { errno } });
    if (errno === LACKS_REFERENCED) return new Fault('NOT_FOUND', { detail: 'What it belongs to was removed meanwhile.', cause: { errno } });
    if (takesNothing(errno)) return new Fault('DATABASE_UNAVAILABLE', { detail: `It rejects writes: disk full or read-only (${detail}).`, cause: { errno } });
    return new Fault(isConnectionLost(code, errno) ? 'DATABASE_UNAVAILABLE' : 'INTERNAL', { detail: `Database: ${detail}.`, cause: { errno } });
  }
  if (error instanceof Error && 'sql' in error) return new Fault('DATABASE_UNAVAILABLE', { detail: `${error.name}.` });
  return error;
}

/** Nothing was sent: the same may be tried at another node. */
const UNREACHED = [ConnectionRefusedError, HostNotFoundError, HostNotReachableError];
const errnoOf = (fault: unknown): number | undefined => (fault instanceof Fault ? (fault.cause as { errno?: number } | undefined)?.errno : undefined);
const wasUnreached = (fault: unknown): boolean => fault instanceof Fault && (fault.cause as { unreached?: boolean } | undefined)?.unreached === true;
const wasReadOnly = (fault: unknown): boolean => [READ_ONLY, 1836].includes(errnoOf(fault) ?? 0);
const lostDeadlock = (fault: unknown): boolean => errnoOf(fault) === DEADLOCK;

/** Codes of the driver (ER_SOCKET…, 45xxx), of the server going down (1053, 1047, 1927, 1969, 2006, 2013), of lock waits (1205, 1213). */
const isConnectionLost = (code: string | undefined, errno: number | undefined): boolean =>
  (errno !== undefined && (errno >= 45_000 || [1047, 1053, 1205, 1213, 1927, 1969, 2006, 2013].includes(errno))) ||
  /^(ER_SOCKET|ER_CONNECTION|ER_CMD_CONNECTION|ECONN|EPIPE)/.test(code ?? '');

/** Errors of a full disk (3, 28, 1021, 1026, 1030, 1114) and of a server that is read-only (1290, 1836): it is there, and takes nothing. */
const takesNothing = (errno: number | undefined): boolean => errno !== undefined && [3, 28, 1021, 1026, 1030, 1114, READ_ONLY, 1836].includes(errno);

/** Epoch ms as DATETIME(3) text in UTC. */
export const instantText = (at: number): string => new Date(at).toISOString().slice(0, 23).replace('T', ' ');
/** A duration, as it stands in a statement. @param ms may have a fraction */
export const intervalText = (ms: number): string => `INTERVAL ${Math.floor(ms * 1000)} MICROSECOND`;
