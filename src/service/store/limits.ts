import { CLIENT_TYPES, type ClientType } from '../../core/provider/kinds.ts';
import { oneOf, readColumn } from './column.ts';
import { type Bind, type Database, idBytes, idText, instantText } from './database.ts';

type Labels = readonly string[];

/** How a client is used: its type, the grant type of the connection that asks, and whether connections within and beyond a limit use it. */
interface ClientUse {
  type: ClientType;
  grantType: string | null;
  within: boolean;
  beyond: boolean;
}

/** The figures of the overview, of connections within alone. */
interface FiguresWithin {
  history: Partial<Record<string, number>>;
  lastMinute: Partial<Record<string, number>>;
  usage: Partial<Record<string, number>>;
  queue: { due: number; oldestAt: number | null };
  revocations: number;
  callers: number;
}

/** What an account that is limited to labels may name: of these, the ones that concern only connections with one of the labels. */
export interface LimitStore {
  /** Connections and people of shared ones, by name. */
  connectionsWithin(names: readonly string[], labels: Labels): Promise<Set<string>>;
  jobsWithin(names: readonly string[], labels: Labels): Promise<Set<string>>;
  runsWithin(ids: readonly string[], labels: Labels): Promise<Set<string>>;
  consentsWithin(ids: readonly string[], labels: Labels): Promise<Set<string>>;
  invitationsWithin(ids: readonly string[], labels: Labels): Promise<Set<string>>;
  /** Callers all of whose permissions are within, and that have any. */
  callersWithin(names: readonly string[], labels: Labels): Promise<Set<string>>;
  /** @param since epoch ms: history by kind and uses by outcome since then, and renewals since `minuteAgo` */
  figures(labels: Labels, since: number, minuteAgo: number): Promise<FiguresWithin>;
  /** The labels that connections within carry. */
  labelsWithin(labels: Labels): Promise<Set<string>>;
  /** True where every connection of the client, or of all clients of the provider, is within. */
  areAllWithin(of: { provider: string; client?: string }, labels: Labels): Promise<boolean>;
  /** When the connection, caller or job was made that is the subject of entries, epoch ms. Null: there is none. */
  madeAt(subject: string): Promise<number | null>;
  /** Null: no such client. */
  clientUse(of: { client: string } & ({ provider: string } | { connection: string }), labels: Labels): Promise<ClientUse | null>;
}

/** Ids of connections with one of the labels; a person's row is within where its shared connection is. */
export const idsWithin = (labels: Labels, bind: Bind[]): string =>
  `SELECT l.connection_id FROM connection_labels l WHERE l.label IN (${labels.map((label) => `$${bind.push(label)}`).join(', ')})`;

const MAX_LABELS = 1_000;
const SUBJECT_TABLES = new Map([
  ['connection', 'connections'],
  ['caller', 'callers'],
  ['job', 'jobs'],
]);

export function limitStore(database: Database): LimitStore {
  const listOf = (list: readonly Bind[], bind: Bind[]): string => list.map((one) => `$${bind.push(one)}`).join(', ');
  /** The names among those wanted for which the statement has a row. */
  const named = async (wanted: readonly string[], sql: (list: string, bind: Bind[]) => string): Promise<Set<string>> => {
    if (wanted.length === 0) return new Set();
    const bind: Bind[] = [];
    const rows = await database.select<{ name: string }>(sql(listOf(wanted, bind), bind), bind);
    return new Set(rows.map((row) => row.name));
  };
  const identified = async (wanted: readonly string[], sql: (list: string, bind: Bind[]) => string): Promise<Set<string>> => {
    if (wanted.length === 0) return new Set();
    const bind: Bind[] = [];
    const rows = await database.select<{ id: Buffer }>(sql(listOf(wanted.map(idBytes), bind), bind), bind);
    return new Set(rows.map((row) => idText(row.id)));
  };
  /** The condition on one caller's rows, grouped: none of its permissions is beyond. */
  const noneBeyond = (labels: Labels, bind: Bind[]): string =>
    `SUM(CASE WHEN p.label IN (${listOf(labels, bind)}) OR p.connection_id IN (${idsWithin(labels, bind)}) THEN 0 ELSE 1 END) = 0`;
  return {
    connectionsWithin: (wanted, labels) =>
      named(
        wanted,
        (list, bind) => `SELECT k.name FROM connections k WHERE k.name IN (${list}) AND COALESCE(k.person_of, k.id) IN (${idsWithin(labels, bind)})`,
      ),
    jobsWithin: (wanted, labels) =>
      named(wanted, (list, bind) => `SELECT j.name FROM jobs j WHERE j.name IN (${list}) AND j.connection_id IN (${idsWithin(labels, bind)})`),
    runsWithin: (wanted, labels) =>
      identified(wanted, (list, bind) => `SELECT r.id FROM runs r WHERE r.id IN (${list}) AND r.connection_id IN (${idsWithin(labels, bind)})`),
    consentsWithin: (wanted, labels) =>
      identified(
        wanted,
        (list, bind) =>
          `SELECT c.id FROM consents c JOIN connections k ON k.id = c.connection_id WHERE c.id IN (${list}) AND COALESCE(k.person_of, k.id) IN (${idsWithin(labels, bind)})`,
      ),
    invitationsWithin: (wanted, labels) =>
      identified(wanted, (list, bind) => `SELECT i.id FROM invitations i WHERE i.id IN (${list}) AND i.shared_id IN (${idsWithin(labels, bind)})`),
    callersWithin: (wanted, labels) =>
      named(
        wanted,
        (list, bind) => `SELECT c.name FROM callers c JOIN permissions p ON p.caller_id = c.id WHERE c.name IN (${list})
         GROUP BY c.id, c.name HAVING ${noneBeyond(labels, bind)}`,
      ),
    async figures(labels, since, minuteAgo) {
      const counted = async (sql: (bind: Bind[]) => string): Promise<Partial<Record<string, number>>> => {
        const bind: Bind[] = [];
        const rows = await database.select<{ word: string; n: number | bigint | string }>(sql(bind), bind);
        return Object.fromEntries(rows.map((row) => [row.word, Number(row.n)]));
      };
      const ofHistory = (at: number) =>
        counted(
          (
            bind,
          ) => `SELECT h.kind AS word, COUNT(*) AS n FROM history h WHERE h.at > $${bind.push(instantText(at))} AND h.kind IN ('renewed', 'renewal_failed', 'action_needed')
            AND h.subject IN (SELECT CONCAT('connection:', k.name) FROM connections k WHERE COALESCE(k.person_of, k.id) IN (${idsWithin(labels, bind)})) GROUP BY h.kind`,
        );
      const [history, lastMinute, usage, numbers, [oldest]] = await Promise.all([
        ofHistory(since),
        ofHistory(minuteAgo),
        counted(
          (bind) => `SELECT u.outcome AS word, SUM(u.count) AS n FROM usage_minutes u JOIN connections k ON k.id = u.connection_id
            WHERE u.minute > $${bind.push(instantText(since))} AND COALESCE(k.person_of, k.id) IN (${idsWithin(labels, bind)}) GROUP BY u.outcome`,
        ),
        counted(
          (bind) => `SELECT 'revocations' AS word, COUNT(*) AS n FROM revocations v JOIN connections k ON k.name = v.connection_name
              WHERE COALESCE(k.person_of, k.id) IN (${idsWithin(labels, bind)})
            UNION ALL SELECT 'callers', COUNT(*) FROM (SELECT p.caller_id FROM permissions p GROUP BY p.caller_id HAVING ${noneBeyond(labels, bind)}) callers_within
            UNION ALL SELECT 'due', COUNT(*) FROM renewals r JOIN connections k ON k.current_grant_id = r.grant_id
              WHERE r.next_at <= UTC_TIMESTAMP(3) AND COALESCE(k.person_of, k.id) IN (${idsWithin(labels, bind)})`,
        ),
        (() => {
          const bind: Bind[] = [];
          return database.select<{ at: Date | null }>(
            `SELECT MIN(r.next_at) AS at FROM renewals r JOIN connections k ON k.current_grant_id = r.grant_id
             WHERE r.next_at <= UTC_TIMESTAMP(3) AND COALESCE(k.person_of, k.id) IN (${idsWithin(labels, bind)})`,
            bind,
          );
        })(),
      ]);
      const queue = { due: numbers.due ?? 0, oldestAt: oldest?.at?.getTime() ?? null };
      return { history, lastMinute, usage, queue, revocations: numbers.revocations ?? 0, callers: numbers.callers ?? 0 };
    },
    async labelsWithin(labels) {
      const bind: Bind[] = [];
      const rows = await database.select<{ label: string }>(
        `SELECT DISTINCT o.label FROM connection_labels o WHERE o.connection_id IN (${idsWithin(labels, bind)}) LIMIT ${MAX_LABELS}`,
        bind,
      );
      return new Set(rows.map((row) => row.label));
    },
    async areAllWithin({ provider, client }, labels) {
      const bind: Bind[] = [provider];
      const ofClient = client === undefined ? '' : ` AND c.name = $${bind.push(client)}`;
      const rows = await database.select(
        `SELECT 1 AS beyond FROM connections k JOIN clients c ON c.id = k.client_id JOIN providers p ON p.id = c.provider_id
         WHERE p.name = $1${ofClient} AND COALESCE(k.person_of, k.id) NOT IN (${idsWithin(labels, bind)}) LIMIT 1`,
        bind,
      );
      return rows.length === 0;
    },
    async madeAt(subject) {
      const [kind = '', name = ''] = subject.split(/:(.*)/s);
      const table = SUBJECT_TABLES.get(kind);
      if (table === undefined) return null;
      const [row] = await database.select<{ at: Date }>(`SELECT created_at AS at FROM ${table} WHERE name = $1`, [name]);
      return row?.at.getTime() ?? null;
    },
    async clientUse(of, labels) {
      const bind: Bind[] = [of.client];
      const [from, grantType] =
        'provider' in of
          ? [`p.name = $${bind.push(of.provider)}`, 'NULL']
          : [
              `c.provider_id = (SELECT o.provider_id FROM clients o JOIN connections k ON k.client_id = o.id WHERE k.name = $${bind.push(of.connection)})`,
              `(SELECT k.grant_type FROM connections k WHERE k.name = $${bind.push(of.connection)})`,
            ];
      const use = (not: string) =>
        `EXISTS (SELECT 1 FROM connections k WHERE k.client_id = c.id AND COALESCE(k.person_of, k.id) ${not} IN (${idsWithin(labels, bind)}))`;
      const [row] = await database.select<{ type: string; grant_type: string | null; within: number; beyond: number }>(
        `SELECT c.type, ${grantType} AS grant_type, ${use('')} AS within, ${use('NOT')} AS beyond
         FROM clients c JOIN providers p ON p.id = c.provider_id WHERE c.name = $1 AND ${from}`,
        bind,
      );
      if (!row) return null;
      const type = readColumn(oneOf(CLIENT_TYPES), row.type, { table: 'clients', column: 'type', row: of.client });
      return { type, grantType: row.grant_type, within: Number(row.within) === 1, beyond: Number(row.beyond) === 1 };
    },
  };
}
