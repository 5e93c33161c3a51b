import { LRUCache } from 'lru-cache';
import { Fault } from '../../core/fault.ts';
import type { ConnectionState, HealthCause } from '../../core/health.ts';
import { staleWhileRevalidate } from '../stale-while-revalidate.ts';
import { instant, oneOf, orNull, type RowOf, readColumn, rowReader, text } from './column.ts';
import { type ListedConnection, listed, SHOWN_CAUSE, SHOWN_STATE, type Stored } from './connection-rows.ts';
import { connectionSearch } from './connection-search.ts';
import { type Bind, type Database, idBytes, idText } from './database.ts';
import { idsWithin } from './limits.ts';

/** What connections are matched by. */
interface Matching {
  ids?: readonly string[];
  /** Part of a name, account, provider, client, label or state. */
  search?: string | undefined;
  label?: string | undefined;
  /** With any of these. */
  labels?: readonly string[] | undefined;
  state?: ConnectionState | undefined;
  provider?: string | undefined;
  /** Of that provider. */
  client?: string | undefined;
  /** People of this shared connection; left out: connections that are no person's. */
  personOf?: string | undefined;
}
/** What a list of connections is narrowed to. */
export interface Narrow extends Matching {
  names?: readonly string[];
  /** Those that use one of these grants. */
  grantIds?: readonly string[];
  /** Names after this one, at most so many. */
  after?: string | undefined;
  limit?: number;
}

/** Consented tokens that wait for a decision beside the current ones. */
const UNDECIDED = { connection: text, why: oneOf(['other_account', 'not_verified']), account: orNull(text), since: instant };
const readUndecided = rowReader('connections', UNDECIDED, 'connection');

/** Connections of one client with the same state and cause. */
export interface StateCount {
  clientId: string;
  provider: string;
  client: string;
  state: ConnectionState;
  causeKey: HealthCause | null;
  count: number;
  /** The first by name. */
  example: string;
  /** Why the provider rejects the client, where it does. */
  evidence: string | null;
}

export interface ConnectionList {
  /** By name. @param onInvalid takes rows that cannot be read; left out: they are thrown */
  read(narrow: Narrow, onInvalid?: (fault: Fault) => void): Promise<ListedConnection[]>;
  /** How many match, whatever the page; where there are many, up to a few seconds old. */
  count(narrow: Matching): Promise<number>;
  /** Few rows, however many connections there are; where there are many, up to a few seconds old. */
  countStates(labels?: readonly string[]): Promise<StateCount[]>;
  /** States of the people of a shared connection; where there are many, up to a few seconds old. */
  countPeople(sharedId: string): Promise<{ state: ConnectionState; causeKey: HealthCause | null; count: number }[]>;
  /** Tokens on standby about which someone must decide, oldest first. */
  undecided(most: number, labels?: readonly string[]): Promise<RowOf<typeof UNDECIDED>[]>;
  /** How many providers, clients and callers there are. */
  objects(): Promise<{ providers: number; clients: number; callers: number }>;
}

const likeText = (text: string): string => `%${text.replace(/[\\%_]/g, '\\$&')}%`;

/** Decided from the columns of `connections` alone, so that no other table is read for rows that are not shown. */
function condition(narrow: Narrow & { among?: readonly string[] }, bind: Bind[]): string {
  const oneOfThem = (column: string, values: readonly Bind[]) =>
    values.length === 0 ? 'FALSE' : `${column} IN (${values.map((value) => `$${bind.push(value)}`).join(', ')})`;
  const all: string[] = [];
  if (narrow.personOf !== undefined) all.push(`k.person_of = $${bind.push(idBytes(narrow.personOf))}`);
  // Whoever names them gets them; a list that names none shows no people.
  else if (narrow.names === undefined && narrow.ids === undefined && narrow.grantIds === undefined) all.push('k.person_of IS NULL');
  if (narrow.names !== undefined) all.push(oneOfThem('k.name', narrow.names));
  if (narrow.ids !== undefined) all.push(oneOfThem('k.id', narrow.ids.map(idBytes)));
  if (narrow.grantIds !== undefined) all.push(oneOfThem('k.current_grant_id', narrow.grantIds.map(idBytes)));
  if (narrow.among !== undefined) all.push(oneOfThem('k.id', narrow.among.map(idBytes)));
  if (narrow.search) all.push(`k.search_text LIKE $${bind.push(likeText(narrow.search))}`);
  if (narrow.state !== undefined) all.push(`k.state = $${bind.push(narrow.state)}`);
  if (narrow.provider !== undefined) {
    const ofClient = narrow.client === undefined ? '' : ` AND c.name = $${bind.push(narrow.client)}`;
    all.push(`k.client_id IN (SELECT c.id FROM clients c JOIN providers p ON p.id = c.provider_id WHERE p.name = $${bind.push(narrow.provider)}${ofClient})`);
  }
  if (narrow.label !== undefined) all.push(`k.id IN (SELECT l.connection_id FROM connection_labels l WHERE l.label = $${bind.push(narrow.label)})`);
  if (narrow.labels !== undefined) all.push(`k.id IN (SELECT l.connection_id FROM connection_labels l WHERE ${oneOfThem('l.label', narrow.labels)})`);
  if (narrow.after !== undefined) all.push(`k.name > $${bind.push(narrow.after)}`);
  return all.length > 0 ? `WHERE ${all.join(' AND ')}` : '';
}

/** Where there are more, figures over all of them are kept for so long. */
const MANY = 5_000;
const KEPT_MS = 10_000;
const SEARCHES_KEPT = 100;

export function connectionList(database: Database): ConnectionList {
  const total = (counts: readonly StateCount[]): number => counts.reduce((sum, one) => sum + one.count, 0);
  /** A search requests its count again and again, and reads all connections for it. */
  const searches = new LRUCache<string, () => Promise<number>>({ max: SEARCHES_KEPT });
  const search = connectionSearch(database);
  /** A search reads the connections that it may find, where they are known. */
  const searched = async <T extends Matching>(matching: T): Promise<T & { among?: readonly string[] }> => {
    const among = matching.search ? await search.among(matching.search) : null;
    return among === null ? matching : { ...matching, among };
  };
  /** Names of the providers at which a second use of a refresh token may end the grant. */
  const strictProviders = async (): Promise<Set<string>> => {
    const rows = await database.select<{ name: string }>(
      `SELECT p.name FROM providers p JOIN provider_versions v ON v.id = p.version_id
       WHERE JSON_VALUE(v.document, '$.dialect.reuse') = 'kills_grant' AND JSON_VALUE(v.document, '$.dialect.rotation') <> 'never'`,
    );
    return new Set(rows.map((row) => row.name));
  };
  const countNow = async (matching: Parameters<typeof condition>[0]): Promise<number> => {
    const bind: Bind[] = [];
    const [row] = await database.select<{ n: number | bigint }>(`SELECT COUNT(*) AS n FROM connections k ${condition(matching, bind)}`, bind);
    return Number(row?.n ?? 0);
  };
  const countStatesNow = async (labels?: readonly string[]): Promise<StateCount[]> => {
    const bind: Bind[] = [];
    const rows = await database.select<{
      client_id: Buffer;
      provider: string;
      client: string;
      state: string;
      cause_key: string | null;
      n: number | bigint;
      example: string;
      evidence: string | null;
    }>(
      `SELECT s.client_id, p.name AS provider, c.name AS client, c.evidence, s.state, s.cause_key, s.n, s.example
       FROM (
         SELECT client_id, state, cause_key, COUNT(*) AS n, MIN(name) AS example
         FROM connections k ${condition({ labels }, bind)} GROUP BY client_id, state, cause_key
       ) s JOIN clients c ON c.id = s.client_id JOIN providers p ON p.id = c.provider_id`,
      bind,
    );
    return rows.map((row) => ({
      clientId: idText(row.client_id),
      provider: row.provider,
      client: row.client,
      state: readColumn(SHOWN_STATE, row.state, { table: 'connections', column: 'state', row: row.example }),
      causeKey: readColumn(SHOWN_CAUSE, row.cause_key, { table: 'connections', column: 'cause_key', row: row.example }),
      count: Number(row.n),
      example: row.example,
      evidence: row.evidence,
    }));
  };
  const countPeopleNow = async (sharedId: string) => {
    const rows = await database.select<{ state: string; cause_key: string | null; n: number | bigint }>(
      'SELECT state, cause_key, COUNT(*) AS n FROM connections WHERE person_of = $1 GROUP BY state, cause_key',
      [idBytes(sharedId)],
    );
    const at = (column: string) => ({ table: 'connections', column, row: sharedId });
    return rows.map((row) => ({
      state: readColumn(SHOWN_STATE, row.state, at('state')),
      causeKey: readColumn(SHOWN_CAUSE, row.cause_key, at('cause_key')),
      count: Number(row.n),
    }));
  };
  type PeopleCounts = Awaited<ReturnType<typeof countPeopleNow>>;
  const people = new LRUCache<string, () => Promise<PeopleCounts>>({ max: SEARCHES_KEPT });
  const countPeople = (sharedId: string): Promise<PeopleCounts> => {
    const isLarge = (counts: PeopleCounts) => counts.reduce((sum, one) => sum + one.count, 0) > MANY;
    const known = people.get(sharedId) ?? staleWhileRevalidate(() => countPeopleNow(sharedId), { keptMs: KEPT_MS, isLarge });
    people.set(sharedId, known);
    return known();
  };
  const countAllStates = staleWhileRevalidate(() => countStatesNow(), { keptMs: KEPT_MS, isLarge: (counts) => total(counts) > MANY });
  return {
    async read(narrow, onInvalid) {
      const bind: Bind[] = [];
      const page = `SELECT k.id FROM connections k ${condition(await searched(narrow), bind)} ORDER BY k.name ${narrow.limit === undefined ? '' : `LIMIT ${Math.floor(narrow.limit)}`}`;
      const [strict, rows] = await Promise.all([
        strictProviders(),
        database.select<Stored>(
          `SELECT k.id, k.name, k.intent, k.scopes, k.policy, k.expected_account, k.grant_type, k.placeholders, k.operations, k.revision, k.created_at,
             k.standby_grant_id, k.standby_why, k.shared, k.person_of, k.person_key, k.person_name, k.state, k.cause_key, k.search_text, k.state_mark,
             p.name AS provider, c.name AS client, c.environment, c.rehearsal_port, c.health AS client_health,
             g.id AS grant_id, g.kind, g.opened, g.account_label, g.scopes AS granted, g.consented_at, g.consented_by, g.evidence, g.proof, g.life_ends_at,
             g.api_base_url, JSON_VALUE(g.proof_answer, '$.status') AS proof_status, JSON_VALUE(g.proof_answer, '$.reason') AS proof_reason,
             r.next_at, r.issued_at, r.expires_at, r.generation, r.failures, r.cause, r.uncertain_since,
             t.refresh_sealed IS NOT NULL AS has_refresh, UTC_TIMESTAMP(3) AS read_at,
             (SELECT GROUP_CONCAT(l.label ORDER BY l.label SEPARATOR ' ') FROM connection_labels l WHERE l.connection_id = k.id) AS labels
           FROM (${page}) page
           STRAIGHT_JOIN connections k ON k.id = page.id
           STRAIGHT_JOIN clients c ON c.id = k.client_id
           STRAIGHT_JOIN providers p ON p.id = c.provider_id
           LEFT JOIN grants g ON g.id = k.current_grant_id
           LEFT JOIN renewals r ON r.grant_id = g.id
           LEFT JOIN tokens t ON t.grant_id = g.id
           ORDER BY k.name`,
          bind,
        ),
      ]);
      return rows.flatMap((row) => {
        try {
          return [listed(row, strict)];
        } catch (fault) {
          if (!onInvalid || !(fault instanceof Fault)) throw fault;
          onInvalid(fault);
          return [];
        }
      });
    },
    async count({ ids, search: text, label, labels, state, provider, client, personOf }) {
      const matching = { search: text, label, labels, state, provider, client, personOf };
      if (ids !== undefined) return countNow({ ...matching, ids });
      const all = total(await countAllStates());
      if (Object.values(matching).every((one) => one === undefined)) return all;
      const narrow = await searched(matching);
      const count = () => countNow(narrow);
      if (narrow.among !== undefined) return count();
      if (all <= MANY) return count();
      const key = JSON.stringify(matching);
      const known = searches.get(key) ?? staleWhileRevalidate(count, { keptMs: KEPT_MS, isLarge: () => true });
      searches.set(key, known);
      return known();
    },
    countStates: (labels) => (labels === undefined ? countAllStates() : countStatesNow(labels)),
    countPeople,
    async undecided(most, labels) {
      const bind: Bind[] = [];
      const within = labels === undefined ? '' : ` AND COALESCE(k.person_of, k.id) IN (${idsWithin(labels, bind)})`;
      const rows = await database.select(
        `SELECT k.name AS connection, k.standby_why AS why, g.account_label AS account, g.consented_at AS since
         FROM connections k JOIN grants g ON g.id = k.standby_grant_id
         WHERE k.standby_why IN ('other_account', 'not_verified')${within} ORDER BY g.consented_at LIMIT ${Math.floor(most)}`,
        bind,
      );
      return rows.map(readUndecided);
    },
    async objects() {
      const [row] = await database.select<Record<'providers' | 'clients' | 'callers', number | bigint>>(
        `SELECT (SELECT COUNT(*) FROM providers) AS providers, (SELECT COUNT(*) FROM clients) AS clients, (SELECT COUNT(*) FROM callers) AS callers`,
      );
      return { providers: Number(row?.providers ?? 0), clients: Number(row?.clients ?? 0), callers: Number(row?.callers ?? 0) };
    },
  };
}
