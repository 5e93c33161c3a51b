import { LRUCache } from 'lru-cache';
import { Fault } from '../../core/fault.ts';
import type { ConnectionFacts, ConnectionState, HealthCause } from '../../core/health.ts';
import { CONNECTION_INTENTS, CONNECTION_STATES, HEALTH_CAUSES, PROOF_STATES } from '../../core/health.ts';
import { GRANT_KINDS, GRANT_TYPES, type GrantKind, type GrantType, isClientsOwn, isKey } from '../../core/oauth/grant-kinds.ts';
import { POLICIES, type RenewalPolicy } from '../../core/renewal/plan.ts';
import { RENEWAL_CAUSES } from '../../core/renewal/row.ts';
import { lately } from '../lately.ts';
import { oneOf, orElse, orNull, readColumn, textList, textMap, type ValueOf } from './column.ts';
import { STANDBY_REASONS, type StandbyWhy } from './connections.ts';
import { type Bind, type Database, idBytes, idText } from './database.ts';

/** Everything that lists and pages need to know of one connection, from one statement. Instants are epoch ms. */
export interface ListedConnection {
  id: string;
  name: string;
  provider: string;
  client: string;
  environment: string;
  /** Its client stands at a simulated provider. */
  rehearsal: boolean;
  facts: ConnectionFacts;
  account: string | null;
  issuedAt: number | null;
  nextAt: number | null;
  expiresAt: number | null;
  generation: number;
  failures: number;
  policy: RenewalPolicy;
  reconnectBy: number | null;
  scopes: string[];
  grantedScopes: string[] | null;
  expectedAccount: string | null;
  grantType: GrantType;
  /** What its current grant came from; null: there is none. */
  kind: GrantKind | null;
  standby: { grantId: string; why: StandbyWhy } | null;
  opened: string | null;
  /** A refresh token is held; a client's own token is renewed without one. */
  hasRefresh: boolean;
  placeholders: Record<string, string>;
  operations: string[];
  apiBaseUrl: string | null;
  consentedAt: number | null;
  consentedBy: string | null;
  evidence: string | null;
  grantId: string | null;
  revision: number;
  createdAt: number;
  labels: string[];
  shared: boolean;
  /** Of a person's row: the shared connection, and the application's own key and name for the person. */
  person: { of: string; key: string; name: string | null } | null;
  /** What is stored of its shown state, by `connection-states.ts`; `readAt`: when all this was read. */
  stored: { state: string; causeKey: string | null; searchText: string; mark: number };
  readAt: number;
}

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
  undecided(most: number): Promise<{ connection: string; why: 'other_account' | 'not_verified'; account: string | null; since: number }[]>;
  /** How many providers, clients and callers there are. */
  objects(): Promise<{ providers: number; clients: number; callers: number }>;
}

type Stored = Record<string, unknown>;

const likeText = (text: string): string => `%${text.replace(/[\\%_]/g, '\\$&')}%`;

/** Decided from the columns of `connections` alone, so that no other table is read for rows that are not shown. */
function condition(narrow: Narrow, bind: Bind[]): string {
  const oneOfThem = (column: string, values: readonly Bind[]) =>
    values.length === 0 ? 'FALSE' : `${column} IN (${values.map((value) => `$${bind.push(value)}`).join(', ')})`;
  const all: string[] = [];
  if (narrow.personOf !== undefined) all.push(`k.person_of = $${bind.push(idBytes(narrow.personOf))}`);
  // Whoever names them gets them; a list that names none shows no people.
  else if (narrow.names === undefined && narrow.ids === undefined && narrow.grantIds === undefined) all.push('k.person_of IS NULL');
  if (narrow.names !== undefined) all.push(oneOfThem('k.name', narrow.names));
  if (narrow.ids !== undefined) all.push(oneOfThem('k.id', narrow.ids.map(idBytes)));
  if (narrow.grantIds !== undefined) all.push(oneOfThem('k.current_grant_id', narrow.grantIds.map(idBytes)));
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
  /** Names of the providers at which a second use of a refresh token may end the grant. */
  const strictProviders = async (): Promise<Set<string>> => {
    const rows = await database.select<{ name: string }>(
      `SELECT p.name FROM providers p JOIN provider_versions v ON v.id = p.version_id
       WHERE JSON_VALUE(v.document, '$.dialect.reuse') = 'kills_grant' AND JSON_VALUE(v.document, '$.dialect.rotation') <> 'never'`,
    );
    return new Set(rows.map((row) => row.name));
  };
  const countNow = async (matching: Matching): Promise<number> => {
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
    const known = people.get(sharedId) ?? lately(() => countPeopleNow(sharedId), { keptMs: KEPT_MS, isLarge });
    people.set(sharedId, known);
    return known();
  };
  const countAllStates = lately(() => countStatesNow(), { keptMs: KEPT_MS, isLarge: (counts) => total(counts) > MANY });
  return {
    async read(narrow, onInvalid) {
      const bind: Bind[] = [];
      const page = `SELECT k.id FROM connections k ${condition(narrow, bind)} ORDER BY k.name ${narrow.limit === undefined ? '' : `LIMIT ${Math.floor(narrow.limit)}`}`;
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
    async count({ ids, search, label, labels, state, provider, client, personOf }) {
      const matching = { search, label, labels, state, provider, client, personOf };
      if (ids !== undefined) return countNow({ ...matching, ids });
      const all = total(await countAllStates());
      if (Object.values(matching).every((one) => one === undefined)) return all;
      const count = () => countNow(matching);
      if (all <= MANY) return count();
      const key = JSON.stringify(matching);
      const known = searches.get(key) ?? lately(count, { keptMs: KEPT_MS, isLarge: () => true });
      searches.set(key, known);
      return known();
    },
    countStates: (labels) => (labels === undefined ? countAllStates() : countStatesNow(labels)),
    countPeople,
    async undecided(most) {
      const rows = await database.select<{ name: string; why: 'other_account' | 'not_verified'; account: string | null; since: Date }>(
        `SELECT k.name, k.standby_why AS why, g.account_label AS account, g.consented_at AS since
         FROM connections k JOIN grants g ON g.id = k.standby_grant_id
         WHERE k.standby_why IN ('other_account', 'not_verified') ORDER BY g.consented_at LIMIT ${Math.floor(most)}`,
      );
      return rows.map(({ name, why, account, since }) => ({ connection: name, why, account, since: since.getTime() }));
    },
    async objects() {
      const [row] = await database.select<Record<'providers' | 'clients' | 'callers', number | bigint>>(
        `SELECT (SELECT COUNT(*) FROM providers) AS providers, (SELECT COUNT(*) FROM clients) AS clients, (SELECT COUNT(*) FROM callers) AS callers`,
      );
      return { providers: Number(row?.providers ?? 0), clients: Number(row?.clients ?? 0), callers: Number(row?.callers ?? 0) };
    },
  };
}

const SHOWN_STATE = oneOf(CONNECTION_STATES);
const SHOWN_CAUSE = orNull(oneOf(Object.keys(HEALTH_CAUSES) as HealthCause[]));

const textOf = (value: unknown) => (value === null || value === undefined ? null : String(value));
const at = (value: unknown) => (value instanceof Date ? value.getTime() : null);

const COLUMNS = {
  'connections.intent': oneOf(CONNECTION_INTENTS),
  'connections.policy': oneOf(POLICIES),
  'connections.grant_type': oneOf(GRANT_TYPES),
  'connections.standby_why': orNull(oneOf(STANDBY_REASONS)),
  'connections.scopes': textList,
  'connections.placeholders': orElse(textMap, {}),
  'connections.operations': orElse(textList, []),
  'grants.kind': orNull(oneOf(GRANT_KINDS)),
  'grants.granted': orNull(textList),
  'grants.proof': orElse(oneOf(PROOF_STATES), 'not_verified'),
  'renewals.cause': orNull(oneOf(RENEWAL_CAUSES)),
};

/** Reads columns of the wide row. @throws {Fault} RECORD_INVALID */
const reader =
  (row: Stored) =>
  <N extends keyof typeof COLUMNS>(name: N): ValueOf<(typeof COLUMNS)[N]> => {
    const [table = '', column = ''] = name.split('.');
    return readColumn<unknown>(COLUMNS[name], row[column], { table, column, row: String(row.name) }) as ValueOf<(typeof COLUMNS)[N]>;
  };

function factsOf(row: Stored, strict: Set<string>): ConnectionFacts {
  const read = reader(row);
  const [proof, kind, standbyWhy] = [read('grants.proof'), read('grants.kind'), read('connections.standby_why')];
  const hasKey = kind !== null && isKey(kind);
  const nextAt = at(row.next_at);
  return {
    intent: read('connections.intent'),
    hasGrant: row.grant_id !== null,
    hasRefreshToken: Number(row.has_refresh) === 1 || (kind !== null && (isClientsOwn(kind) || hasKey)),
    cause: read('renewals.cause'),
    expiresAt: at(row.expires_at),
    renewalPlanned: nextAt !== null || hasKey,
    renewalLater: nextAt !== null && nextAt > (at(row.read_at) ?? 0),
    undecided: standbyWhy === 'other_account' || standbyWhy === 'not_verified',
    byItself: isClientsOwn(read('connections.grant_type')),
    shared: Number(row.shared) === 1,
    atRisk: row.uncertain_since !== null && strict.has(String(row.provider)),
    clientStopped: row.client_health === 'stopped' && !hasKey, // a key needs no client
    proof,
    proofSays: proof === 'failed' ? `The call that should prove it answered ${textOf(row.proof_status) ?? textOf(row.proof_reason) ?? 'nothing good'}.` : null,
  };
}

function listed(row: Stored, strict: Set<string>): ListedConnection {
  const read = reader(row);
  const standbyWhy = read('connections.standby_why');
  return {
    id: idText(row.id as Buffer),
    name: String(row.name),
    provider: String(row.provider),
    client: String(row.client),
    environment: String(row.environment),
    rehearsal: row.rehearsal_port !== null,
    facts: factsOf(row, strict),
    account: textOf(row.account_label),
    issuedAt: at(row.issued_at),
    nextAt: at(row.next_at),
    expiresAt: at(row.expires_at),
    generation: Number(row.generation ?? 0),
    failures: Number(row.failures ?? 0),
    policy: read('connections.policy'),
    reconnectBy: at(row.life_ends_at),
    scopes: read('connections.scopes'),
    grantedScopes: read('grants.granted'),
    expectedAccount: textOf(row.expected_account),
    grantType: read('connections.grant_type'),
    kind: read('grants.kind'),
    standby: row.standby_grant_id && standbyWhy ? { grantId: idText(row.standby_grant_id as Buffer), why: standbyWhy } : null,
    opened: textOf(row.opened),
    hasRefresh: Number(row.has_refresh) === 1,
    placeholders: read('connections.placeholders'),
    operations: read('connections.operations'),
    apiBaseUrl: textOf(row.api_base_url),
    consentedAt: at(row.consented_at),
    consentedBy: textOf(row.consented_by),
    evidence: textOf(row.evidence),
    grantId: row.grant_id ? idText(row.grant_id as Buffer) : null,
    revision: Number(row.revision),
    createdAt: at(row.created_at) ?? 0,
    labels: textOf(row.labels)?.split(' ') ?? [],
    shared: Number(row.shared) === 1,
    person: row.person_of ? { of: idText(row.person_of as Buffer), key: String(row.person_key), name: textOf(row.person_name) } : null,
    stored: { state: String(row.state), causeKey: textOf(row.cause_key), searchText: String(row.search_text), mark: Number(row.state_mark) },
    readAt: at(row.read_at) ?? 0,
  };
}
