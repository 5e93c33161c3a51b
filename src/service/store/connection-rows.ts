import type { ConnectionFacts, HealthCause } from '../../core/health.ts';
import { CONNECTION_INTENTS, CONNECTION_STATES, HEALTH_CAUSES, PROOF_STATES } from '../../core/health.ts';
import { GRANT_KINDS, GRANT_TYPES, type GrantKind, type GrantType, isClientsOwn, isKey } from '../../core/oauth/grant-kinds.ts';
import { POLICIES, type RenewalPolicy } from '../../core/renewal/plan.ts';
import { RENEWAL_CAUSES } from '../../core/renewal/row.ts';
import { oneOf, orElse, orNull, readColumn, textList, textMap, type ValueOf } from './column.ts';
import { STANDBY_REASONS, type StandbyWhy } from './connections.ts';
import { idText } from './database.ts';

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

/** A row as the driver gives it. */
export type Stored = Record<string, unknown>;

export const SHOWN_STATE = oneOf(CONNECTION_STATES);
export const SHOWN_CAUSE = orNull(oneOf(Object.keys(HEALTH_CAUSES) as HealthCause[]));

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
    proofSays: proof === 'failed' ? `The test call answered ${textOf(row.proof_status) ?? textOf(row.proof_reason) ?? 'nothing good'}.` : null,
  };
}

export function listed(row: Stored, strict: Set<string>): ListedConnection {
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
