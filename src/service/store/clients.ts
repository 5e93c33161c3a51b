import { z } from 'zod';
import { Registering, Requested } from '../../api/clients.ts';
import { CLIENT_AUTHENTICATION_METHODS } from '../../core/oauth/methods.ts';
import { APPROVALS, CLIENT_TYPES, ENVIRONMENTS, REACHES } from '../../core/provider/kinds.ts';
import { id, instant, json, number, oneOf, orElse, orNull, readColumn, text, textList, textMap } from './column.ts';
import { type Database, idBytes, idText, instantText, intervalText } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const STAGES = ['draft', 'active', 'retired'] as const;
export const CLIENT_HEALTH = ['working', 'stopped'] as const;

/** What is remembered of registering a client; earlier versions wrote fewer members. */
const Remembered = z.object({ ...Registering.shape, requests: Requested }).partial();

const COLUMNS = {
  id,
  providerId: id,
  name: text,
  title: text,
  environment: oneOf(ENVIRONMENTS),
  clientId: orNull(text),
  placeholders: textMap,
  redirectUri: text,
  stage: oneOf(STAGES),
  approval: oneOf(APPROVALS),
  reach: oneOf(REACHES),
  health: oneOf(CLIENT_HEALTH),
  nextTryAt: orNull(instant),
  heldUntil: orNull(instant),
  evidence: orNull(text),
  type: oneOf(CLIENT_TYPES),
  authMethod: orNull(oneOf(CLIENT_AUTHENTICATION_METHODS)),
  variant: orNull(text),
  registeredScopes: orElse(textList, []),
  listedAccounts: orElse(textList, []),
  /** Origins that an operator confirmed; null: none were kept, and all are trusted. */
  trustedOrigins: orNull(textList),
  registering: orElse(json(Remembered), {}),
  rehearsalPort: orNull(number),
  approvalSeenAt: orNull(instant),
  approvalEvidence: orNull(text),
  revision: number,
  createdAt: instant,
};
export type ClientRow = RowOf<typeof COLUMNS>;

/** A client whose approval is of interest. */
interface ApprovalNews {
  provider: string;
  client: string;
  approval: ClientRow['approval'];
  /** The date it was requested, or approved. */
  on: string | null;
  seenAt: number | null;
}

/** Clients: our registrations at providers. Instants are epoch ms of the database. */
export interface ClientStore {
  byId(clientId: string): Promise<ClientRow | null>;
  all(): Promise<ClientRow[]>;
  byName(providerId: string, name: string): Promise<ClientRow | null>;
  /** By name. */
  ofProvider(providerId: string): Promise<ClientRow[]>;
  hasAny(providerId: string): Promise<boolean>;
  redirectUris(): Promise<string[]>;
  add(row: ClientRow): Promise<void>;
  change(clientId: string, set: Partial<ClientRow>): Promise<void>;
  /** Changes the client of this revision, and counts the revision on. False: it has another by now. */
  revise(client: Pick<ClientRow, 'id' | 'revision'>, set: Partial<ClientRow>): Promise<boolean>;
  /** Keeps what was seen of an approval, unless someone changed the client since. */
  seeApproval(client: Pick<ClientRow, 'id' | 'revision' | 'approval'>, set: Partial<ClientRow>): Promise<boolean>;
  /** Removes the client and its secrets. */
  remove(clientId: string): Promise<void>;
  /** True: it was not stopped before. */
  stop(clientId: string, evidence: string, tryAgainMs: number): Promise<boolean>;
  /** Whether one request may test a stopped client now; the next one may in `tryAgainMs`. */
  mayTry(clientId: string, tryAgainMs: number): Promise<boolean>;
  /** True: it was stopped before. */
  works(clientId: string): Promise<boolean>;
  /** No request for it before then, on any replica. */
  hold(clientId: string, untilAt: number): Promise<void>;
  /** Clients whose approval is awaited and was not checked for `everyMs`. */
  awaitingApproval(everyMs: number, most: number): Promise<{ id: string; name: string; provider: string }[]>;
  /** Takes the check of one of them; false: another replica was faster. */
  claimApproval(clientId: string, everyMs: number): Promise<boolean>;
  /** Clients with an approval that is outstanding, or was given since that date (YYYY-MM-DD). */
  approvalNews(since: string, most: number): Promise<ApprovalNews[]>;
}

export function clientStore(database: Database): ClientStore {
  const table = defineTable(database, 'clients', COLUMNS, { primaryKey: ['id'] });
  const inMs = (ms: number) => `UTC_TIMESTAMP(3) + ${intervalText(ms)}`;
  const approvalDue = (everyMs: number) =>
    `approval IN ('requested', 'info_requested', 'rejected') AND stage <> 'retired' AND client_id IS NOT NULL
     AND (approval_seen_at IS NULL OR approval_seen_at < ${inMs(-everyMs)})`;
  return {
    all: () => table.list(),
    byId: (clientId) => table.find({ id: clientId }),
    byName: (providerId, name) => table.find({ providerId, name }),
    ofProvider: (providerId) => table.list({ providerId }, { orderBy: 'name' }),
    hasAny: async (providerId) => (await table.find({ providerId })) !== null,
    redirectUris: async () => (await table.list()).map((client) => client.redirectUri),
    add: (row) => table.insert(row),
    change: async (clientId, set) => void (await table.change({ id: clientId }, set)),
    revise: async ({ id: clientId, revision }, set) => (await table.change({ id: clientId, revision }, { ...set, revision: revision + 1 })) > 0,
    seeApproval: async ({ id: clientId, revision, approval }, set) => (await table.change({ id: clientId, revision, approval }, set)) > 0,
    remove: async (clientId) => void (await table.remove({ id: clientId })),
    stop: async (clientId, evidence, tryAgainMs) =>
      (await database.write(
        `UPDATE clients SET health = 'stopped', next_try_at = ${inMs(tryAgainMs)}, evidence = $1
         WHERE id = $2 AND health <> 'stopped'`,
        [evidence.slice(0, 500), idBytes(clientId)],
      )) > 0,
    mayTry: async (clientId, tryAgainMs) =>
      (await database.write(
        `UPDATE clients SET next_try_at = ${inMs(tryAgainMs)}
         WHERE id = $1 AND health = 'stopped' AND next_try_at <= UTC_TIMESTAMP(3)`,
        [idBytes(clientId)],
      )) === 1,
    works: async (clientId) =>
      (await database.write(
        `UPDATE clients SET health = 'working', next_try_at = NULL, evidence = NULL
         WHERE id = $1 AND health <> 'working'`,
        [idBytes(clientId)],
      )) > 0,
    async hold(clientId, untilAt) {
      const until = instantText(untilAt);
      await database.write('UPDATE clients SET held_until = $1 WHERE id = $2 AND (held_until IS NULL OR held_until < $3)', [until, idBytes(clientId), until]);
    },
    async awaitingApproval(everyMs, most) {
      const rows = await database.select<{ id: Buffer; name: string; provider: string }>(
        `SELECT c.id, c.name, p.name AS provider FROM clients c JOIN providers p ON p.id = c.provider_id
         WHERE ${approvalDue(everyMs)} ORDER BY c.approval_seen_at LIMIT ${Math.floor(most)}`,
      );
      return rows.map((row) => ({ ...row, id: idText(row.id) }));
    },
    claimApproval: async (clientId, everyMs) =>
      (await database.write(`UPDATE clients SET approval_seen_at = UTC_TIMESTAMP(3) WHERE id = $1 AND ${approvalDue(everyMs)}`, [idBytes(clientId)])) > 0,
    async approvalNews(since, most) {
      const rows = await database.select<{
        provider: string;
        client: string;
        approval: string;
        asked: string | null;
        approved: string | null;
        seen: Date | null;
      }>(
        `SELECT p.name AS provider, c.name AS client, c.approval, c.approval_seen_at AS seen,
           JSON_VALUE(c.registering, '$.requested_on') AS asked, JSON_VALUE(c.registering, '$.approved_on') AS approved
         FROM clients c JOIN providers p ON p.id = c.provider_id
         WHERE c.stage <> 'retired' AND c.rehearsal_port IS NULL
           AND (c.approval IN ('not_requested', 'requested', 'info_requested', 'rejected')
             OR (c.approval = 'approved' AND JSON_VALUE(c.registering, '$.approved_on') >= $1))
         ORDER BY c.approval, p.name, c.name LIMIT ${Math.floor(most)}`,
        [since],
      );
      return rows.map((row) => ({
        provider: row.provider,
        client: row.client,
        approval: readColumn(COLUMNS.approval, row.approval, { table: 'clients', column: 'approval', row: `${row.provider}/${row.client}` }),
        on: row.approval === 'approved' ? row.approved : row.asked,
        seenAt: row.seen?.getTime() ?? null,
      }));
    },
  };
}
