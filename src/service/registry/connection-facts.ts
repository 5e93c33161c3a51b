import type { ConnectionSummary } from '../../api/connections.ts';
import { type ConnectionFacts, connectionHealth } from '../../core/health.ts';
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
  facts: ConnectionFacts;
  account: string | null;
  issuedAt: number | null;
  nextAt: number | null;
  expiresAt: number | null;
  generation: number;
  failures: number;
  scopes: string[];
  grantedScopes: string[] | null;
  expectedAccount: string | null;
  consentedAt: number | null;
  consentedBy: string | null;
  evidence: string | null;
  grantId: string | null;
  revision: number;
  createdAt: number;
}

type Stored = Record<string, unknown>;

/** What a list of connections is narrowed to. */
export interface Narrow {
  name?: string;
  /** Part of a name, account, provider or client. */
  search?: string | undefined;
}

/** All connections that match, by name, from one statement. */
export async function readConnections(s: Pick<Services, 'database'>, narrow: Narrow = {}): Promise<Known[]> {
  const bind: Bind[] = [];
  let where = '';
  if (narrow.name !== undefined) where = `WHERE k.name = $${bind.push(narrow.name)}`;
  else if (narrow.search)
    where = `WHERE CONCAT_WS(' ', k.name, p.name, c.name, g.account_label) COLLATE utf8mb4_general_ci LIKE $${bind.push(`%${narrow.search.replace(/[\\%_]/g, '\\$&')}%`)}`;
  const rows = await s.database.select<Stored>(
    `SELECT k.id, k.name, k.intent, k.scopes, k.expected_account, k.revision, k.created_at, p.name AS provider, c.name AS client, c.environment, c.health AS client_health,
       g.id AS grant_id, g.account_label, g.scopes AS granted, g.consented_at, g.consented_by, g.evidence, g.proof,
       JSON_VALUE(g.proof_answer, '$.status') AS proof_status, JSON_VALUE(g.proof_answer, '$.reason') AS proof_reason,
       r.next_at, r.issued_at, r.expires_at, r.generation, r.failures, r.cause, t.refresh_sealed IS NOT NULL AS has_refresh
     FROM connections k JOIN clients c ON c.id = k.client_id JOIN providers p ON p.id = c.provider_id
     LEFT JOIN grants g ON g.id = k.current_grant_id LEFT JOIN renewals r ON r.grant_id = g.id LEFT JOIN tokens t ON t.grant_id = g.id ${where} ORDER BY k.name`,
    bind,
  );
  return rows.map(known);
}

function known(row: Stored): Known {
  const at = (value: unknown) => (value instanceof Date ? value.getTime() : null);
  const text = (value: unknown) => (value === null || value === undefined ? null : String(value));
  const proof = (text(row.proof) ?? 'not_tried') as ConnectionFacts['proof'];
  return {
    id: idText(row.id as Buffer),
    name: String(row.name),
    provider: String(row.provider),
    client: String(row.client),
    environment: String(row.environment),
    facts: {
      intent: String(row.intent) as ConnectionFacts['intent'],
      hasGrant: row.grant_id !== null,
      hasRefreshToken: Number(row.has_refresh) === 1,
      cause: text(row.cause) as RenewalCause | null,
      expiresAt: at(row.expires_at),
      renewalPlanned: row.next_at !== null,
      clientStopped: row.client_health === 'stopped',
      proof,
      proofSays: proof === 'failed' ? `The call that should prove it answered ${text(row.proof_status) ?? text(row.proof_reason) ?? 'nothing'}.` : null,
    },
    account: text(row.account_label),
    issuedAt: at(row.issued_at),
    nextAt: at(row.next_at),
    expiresAt: at(row.expires_at),
    generation: Number(row.generation ?? 0),
    failures: Number(row.failures ?? 0),
    scopes: JSON.parse(String(row.scopes)) as string[],
    grantedScopes: row.granted ? (JSON.parse(String(row.granted)) as string[]) : null,
    expectedAccount: text(row.expected_account),
    consentedAt: at(row.consented_at),
    consentedBy: text(row.consented_by),
    evidence: text(row.evidence),
    grantId: row.grant_id ? idText(row.grant_id as Buffer) : null,
    revision: Number(row.revision),
    createdAt: at(row.created_at) ?? 0,
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
    ...connectionHealth(one.facts, now),
    account: one.account,
    life:
      one.issuedAt === null || one.expiresAt === null
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
