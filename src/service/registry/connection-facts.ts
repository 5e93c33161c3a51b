import type { ConnectionSummary } from '../../api/connections.ts';
import { type ConnectionFacts, connectionHealth } from '../../core/health.ts';
import { type GrantKind, type GrantType, isClientsOwn, isKey } from '../../core/oauth/grant-kinds.ts';
import type { RenewalPolicy } from '../../core/renewal/plan.ts';
import type { RenewalCause } from '../../core/renewal/row.ts';
import { type Bind, idText } from '../store/database.ts';
import { iso, isoOrNull, type Services } from './services.ts';

const DAY_MS = 86_400_000;
export const TICKS_SHOWN = 200;
export const TICKS_IN_LISTS = 40;

/** Everything that is known of one connection, from one statement. */
export interface Known {
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
  agreeAgainBy: number | null;
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
}

/** Why a grant waits beside the one in use: prepared for a switch, kept after one, or not to be used before somebody decides. */
export const STANDBY_REASONS = ['prepared', 'former', 'other_account', 'not_proved'] as const;
export type StandbyWhy = (typeof STANDBY_REASONS)[number];

type Stored = Record<string, unknown>;

/** What a list of connections is narrowed to. */
export interface Narrow {
  name?: string;
  names?: readonly string[];
  /** Part of a name, account, provider, client or label. */
  search?: string | undefined;
  label?: string | undefined;
  /** Names after this one, at most so many. */
  after?: string | undefined;
  limit?: number;
  /** Only those about which there may be something to say. */
  unwell?: boolean;
}

/** True in SQL for what is plainly working. */
const WELL =
  "(k.intent = 'active' AND g.id IS NOT NULL AND r.cause IS NULL AND (r.next_at IS NOT NULL OR g.kind = 'static_key') AND (r.expires_at > UTC_TIMESTAMP(3) OR r.next_at > UTC_TIMESTAMP(3)) AND r.uncertain_since IS NULL AND (c.health <> 'stopped' OR g.kind = 'static_key') AND g.proof IN ('proved', 'not_defined') AND (t.refresh_sealed IS NOT NULL OR g.kind IN ('client_credentials', 'jwt_bearer', 'static_key')))";
const FROM = `FROM connections k JOIN clients c ON c.id = k.client_id JOIN providers p ON p.id = c.provider_id
     LEFT JOIN grants g ON g.id = k.current_grant_id LEFT JOIN renewals r ON r.grant_id = g.id LEFT JOIN tokens t ON t.grant_id = g.id`;

/** A connection's labels, in SQL: they hold no space. */
const LABELS = "(SELECT GROUP_CONCAT(l.label ORDER BY l.label SEPARATOR ' ') FROM connection_labels l WHERE l.connection_id = k.id)";

const condition = (narrow: Narrow, bind: Bind[]): string => {
  const all: string[] = [];
  if (narrow.name !== undefined) all.push(`k.name = $${bind.push(narrow.name)}`);
  if (narrow.names !== undefined) all.push(narrow.names.length === 0 ? 'FALSE' : `k.name IN (${narrow.names.map((name) => `$${bind.push(name)}`).join(', ')})`);
  if (narrow.search)
    all.push(
      `CONCAT_WS(' ', k.name, p.name, c.name, g.account_label, ${LABELS}) COLLATE utf8mb4_general_ci LIKE $${bind.push(`%${narrow.search.replace(/[\\%_]/g, '\\$&')}%`)}`,
    );
  if (narrow.label !== undefined) all.push(`EXISTS (SELECT 1 FROM connection_labels l WHERE l.connection_id = k.id AND l.label = $${bind.push(narrow.label)})`);
  if (narrow.after !== undefined) all.push(`k.name > $${bind.push(narrow.after)}`);
  if (narrow.unwell) all.push(`NOT ${WELL}`);
  return all.length > 0 ? `WHERE ${all.join(' AND ')}` : '';
};

/** How many match, whatever the page. */
export async function countConnections(s: Pick<Services, 'database'>, narrow: Narrow): Promise<number> {
  const bind: Bind[] = [];
  const [row] = await s.database.select<{ n: number | bigint }>(`SELECT COUNT(*) AS n ${FROM} ${condition({ ...narrow, after: undefined }, bind)}`, bind);
  return Number(row?.n ?? 0);
}

/** Names of the providers at which a second use of a refresh token may end the grant. */
async function strictProviders(s: Pick<Services, 'database'>): Promise<Set<string>> {
  const rows = await s.database.select<{ name: string }>(
    "SELECT p.name FROM providers p JOIN provider_versions v ON v.id = p.version_id WHERE JSON_VALUE(v.document, '$.dialect.reuse') = 'kills_grant' AND JSON_VALUE(v.document, '$.dialect.rotation') <> 'never'",
  );
  return new Set(rows.map((row) => row.name));
}

const [PAST, FUTURE] = [new Date(0), new Date(8.64e15)];

/** Connections counted by the facts on which their state depends: few rows, however many connections there are. */
export async function countByFacts(
  s: Pick<Services, 'database'>,
): Promise<{ provider: string; client: string; facts: ConnectionFacts; count: number; example: string; evidence: string | null }[]> {
  const strict = await strictProviders(s);
  const rows = await s.database.select<Stored>(
    `SELECT p.name AS provider, c.name AS client, MAX(c.evidence) AS evidence, k.intent, g.id IS NOT NULL AS grant_id, r.cause, r.expires_at <= UTC_TIMESTAMP(3) AS expired, (r.next_at IS NOT NULL OR g.kind = 'static_key') AS planned,
       r.uncertain_since IS NOT NULL AS uncertain, IF(g.kind = 'static_key', 'working', c.health) AS client_health, g.proof, (t.refresh_sealed IS NOT NULL OR g.kind IN ('client_credentials', 'jwt_bearer', 'static_key')) AS renewable, k.standby_why IS NOT NULL AND k.standby_why IN ('other_account', 'not_proved') AS undecided, r.next_at IS NOT NULL AND r.next_at > UTC_TIMESTAMP(3) AS later, COUNT(*) AS n, MIN(k.name) AS example
     ${FROM} GROUP BY p.name, c.name, k.intent, 5, r.cause, 7, 8, 9, 10, g.proof, 12, 13, 14`,
  );
  return rows.map((row) => ({
    provider: String(row.provider),
    client: String(row.client),
    count: Number(row.n),
    example: String(row.example),
    evidence: row.evidence === null ? null : String(row.evidence),
    facts: factsOf(
      {
        ...row,
        grant_id: Number(row.grant_id) === 1 ? row.grant_id : null,
        next_at: Number(row.planned) === 1 ? PAST : null,
        expires_at: Number(row.expired) === 1 ? PAST : FUTURE, // the database judged; which instant it was does not matter
      },
      strict,
    ),
  }));
}

/** Connections that match, by name, from one statement. */
export async function readConnections(s: Pick<Services, 'database'>, narrow: Narrow = {}): Promise<Known[]> {
  const bind: Bind[] = [];
  const strict = await strictProviders(s);
  const rows = await s.database.select<Stored>(
    `SELECT k.id, k.name, k.intent, k.scopes, k.policy, k.expected_account, k.grant_type, k.placeholders, k.operations, k.revision, k.created_at, p.name AS provider, c.name AS client, c.environment, c.rehearsal_port IS NOT NULL AS rehearsal, c.health AS client_health,
       g.id AS grant_id, g.account_label, g.scopes AS granted, g.consented_at, g.consented_by, g.evidence, g.proof, g.life_ends_at, g.api_base_url,
       JSON_VALUE(g.proof_answer, '$.status') AS proof_status, JSON_VALUE(g.proof_answer, '$.reason') AS proof_reason,
       r.next_at, r.issued_at, r.expires_at, r.generation, r.failures, r.cause, r.uncertain_since IS NOT NULL AS uncertain, t.refresh_sealed IS NOT NULL AS has_refresh, (t.refresh_sealed IS NOT NULL OR g.kind IN ('client_credentials', 'jwt_bearer', 'static_key')) AS renewable,
       g.kind, g.opened, ${LABELS} AS labels, k.standby_grant_id, k.standby_why, k.standby_why IS NOT NULL AND k.standby_why IN ('other_account', 'not_proved') AS undecided, r.next_at IS NOT NULL AND r.next_at > UTC_TIMESTAMP(3) AS later
     ${FROM} ${condition(narrow, bind)} ORDER BY k.name ${narrow.limit === undefined ? '' : `LIMIT ${Math.floor(narrow.limit)}`}`,
    bind,
  );
  return rows.map((row) => known(row, strict));
}

const textOf = (value: unknown) => (value === null || value === undefined ? null : String(value));

function factsOf(row: Stored, strict: Set<string>): ConnectionFacts {
  const proof = (textOf(row.proof) ?? 'not_tried') as ConnectionFacts['proof'];
  return {
    intent: String(row.intent) as ConnectionFacts['intent'],
    hasGrant: row.grant_id !== null,
    hasRefreshToken: Number(row.renewable) === 1,
    cause: textOf(row.cause) as RenewalCause | null,
    expiresAt: row.expires_at instanceof Date ? row.expires_at.getTime() : null,
    renewalPlanned: row.next_at !== null || isKey(String(row.kind ?? '')),
    renewalLater: Number(row.later ?? 0) === 1,
    undecided: Number(row.undecided ?? 0) === 1,
    byItself: isClientsOwn(String(row.grant_type ?? '')),
    atRisk: Number(row.uncertain) === 1 && strict.has(String(row.provider)),
    clientStopped: row.client_health === 'stopped' && !isKey(String(row.kind ?? '')), // a key needs no client
    proof,
    proofSays: proof === 'failed' ? `The call that should prove it answered ${textOf(row.proof_status) ?? textOf(row.proof_reason) ?? 'nothing good'}.` : null,
  };
}

function known(row: Stored, strict: Set<string>): Known {
  const at = (value: unknown) => (value instanceof Date ? value.getTime() : null);
  return {
    id: idText(row.id as Buffer),
    name: String(row.name),
    provider: String(row.provider),
    client: String(row.client),
    environment: String(row.environment),
    rehearsal: Number(row.rehearsal) === 1,
    facts: factsOf(row, strict),
    account: textOf(row.account_label),
    issuedAt: at(row.issued_at),
    nextAt: at(row.next_at),
    expiresAt: at(row.expires_at),
    generation: Number(row.generation ?? 0),
    failures: Number(row.failures ?? 0),
    policy: String(row.policy) as RenewalPolicy,
    agreeAgainBy: at(row.life_ends_at),
    scopes: JSON.parse(String(row.scopes)) as string[],
    grantedScopes: row.granted ? (JSON.parse(String(row.granted)) as string[]) : null,
    expectedAccount: textOf(row.expected_account),
    grantType: String(row.grant_type) as GrantType,
    kind: textOf(row.kind) as GrantKind | null,
    standby: row.standby_grant_id ? { grantId: idText(row.standby_grant_id as Buffer), why: String(row.standby_why) as StandbyWhy } : null,
    opened: textOf(row.opened),
    hasRefresh: Number(row.has_refresh) === 1,
    placeholders: JSON.parse(String(row.placeholders ?? '{}')) as Record<string, string>,
    operations: JSON.parse(String(row.operations ?? '[]')) as string[],
    apiBaseUrl: textOf(row.api_base_url),
    consentedAt: at(row.consented_at),
    consentedBy: textOf(row.consented_by),
    evidence: textOf(row.evidence),
    grantId: row.grant_id ? idText(row.grant_id as Buffer) : null,
    revision: Number(row.revision),
    createdAt: at(row.created_at) ?? 0,
    labels: textOf(row.labels)?.split(' ') ?? [],
  };
}

/** Shown form of each, with the last day's renewals as ticks: at most `ticks` each. */
export async function summaries(s: Pick<Services, 'ports' | 'tables' | 'history'>, all: Known[], ticks: number): Promise<ConnectionSummary[]> {
  const now = s.ports.clock.now();
  const titles = new Map((await s.tables.providers.list()).map((provider) => [provider.name, provider.title]));
  const renewed = await s.history.renewals(
    all.map((one) => `connection:${one.name}`),
    now - DAY_MS,
    ticks,
  );
  return all.map((one) => ({
    name: one.name,
    provider: one.provider,
    provider_title: titles.get(one.provider) ?? one.provider,
    client: one.client,
    environment: one.environment,
    rehearsal: one.rehearsal,
    ...connectionHealth(one.facts, now),
    account: one.account,
    labels: one.labels,
    life:
      one.issuedAt === null || one.expiresAt === null || one.kind === 'static_key'
        ? null
        : {
            issued_at: iso(one.issuedAt),
            due_at: isoOrNull(one.nextAt),
            expires_at: iso(one.expiresAt),
            renewed_at: (renewed.get(`connection:${one.name}`) ?? []).map(iso),
          },
    renewals: Math.max(0, one.generation - 1),
  }));
}
