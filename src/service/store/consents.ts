import { CONSENT_PHASES, type ConsentOutcome } from '../../api/connections.ts';
import type { Diagnosis } from '../../core/diagnosis/diagnosis.ts';
import { WAYS } from '../../core/oauth/grant-kinds.ts';
import { bytes, documentWith, id, instant, json, oneOf, orElse, orNull, text, textList } from './column.ts';
import { type Database, idBytes, idText, intervalText } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

/** What a consent remembers beside its columns. */
export interface ConsentFacts {
  /** What it may cost, as it was shown when it was opened. */
  warnings?: string[];
  /** Sent with the authorization request, and checked in the ID token. */
  nonce?: string;
  /** Another than the client's registered one: a loopback redirect with a port of its own. */
  redirectUri?: string;
  /** When the browser was sent away, epoch ms. */
  startedAt?: number;
  /** The client to which the connection moves, by name. */
  movesTo?: string;
  prepares?: boolean;
  /** The invitation through which a person came. */
  invitation?: string;
  /** What was pasted held spaces or line breaks. */
  spaced?: boolean;
  placeholders?: Record<string, string>;
  device?: { userCode: string; page: string; pageWithCode: string | null; intervalMs: number; polls: number };
  pageDiagnosis?: Diagnosis;
}

/** How a consent ended. */
export type StoredOutcome = Pick<
  ConsentOutcome,
  'account' | 'opened' | 'scopes' | 'refresh_token' | 'access_token_life_seconds' | 'first_call' | 'problem' | 'warnings' | 'decide'
>;

const COLUMNS = {
  id,
  ticketHash: bytes,
  stateHash: orNull(bytes),
  cookieHash: orNull(bytes),
  clientId: id,
  connectionId: id,
  grantId: id,
  verifierSealed: orNull(bytes),
  scopes: textList,
  phase: oneOf(CONSENT_PHASES),
  openedBy: text,
  expiresAt: instant,
  finishedAt: orNull(instant),
  outcome: json(documentWith<StoredOutcome>('problem', 'warnings')),
  way: oneOf([...WAYS, 'imported']),
  facts: orElse(json(documentWith<ConsentFacts>()), {}),
  deviceSealed: orNull(bytes),
  pollAt: orNull(instant),
  codeHash: orNull(bytes),
};
export type ConsentRow = RowOf<typeof COLUMNS>;
type Phase = ConsentRow['phase'];

/** Consents, from the one-time link to the outcome. Instants are epoch ms of the database. */
export interface ConsentStore {
  byId(consentId: string): Promise<ConsentRow | null>;
  byTicket(hash: Buffer): Promise<ConsentRow | null>;
  byState(hash: Buffer): Promise<ConsentRow | null>;
  byCode(hash: Buffer): Promise<ConsentRow | null>;
  /** The newest one of a connection that can be continued. */
  openOf(connectionId: string): Promise<{ id: string; phase: string; way: string; openedBy: string; expiresAt: number } | null>;
  /** Adds one, and deletes some that expired more than so many days ago. */
  add(row: ConsentRow, keptDays: number): Promise<void>;
  change(consentId: string, set: Partial<ConsentRow>): Promise<void>;
  /** Moves a consent on, only from the phase that was seen. False: someone was faster. */
  advance(consentId: string, from: Phase, set: Partial<ConsentRow>): Promise<boolean>;
  /** Takes the code that came back: whoever wins sends it, within `forMs`. */
  takeCode(consentId: string, from: Phase, codeHash: Buffer | null, forMs: number): Promise<boolean>;
  /** Ends one that has not ended yet. */
  finish(consentId: string, set: Partial<ConsentRow>): Promise<void>;
  /** Consents that poll for a device and are due. */
  duePolls(most: number): Promise<string[]>;
  /** Takes the poll of one; the next one may poll after `forMs`. */
  claimPoll(consentId: string, forMs: number): Promise<boolean>;
}

export function consentStore(database: Database): ConsentStore {
  const table = defineTable(database, 'consents', COLUMNS, { primaryKey: ['id'] });
  const inMs = (ms: number) => `UTC_TIMESTAMP(3) + ${intervalText(ms)}`;
  return {
    byId: (consentId) => table.find({ id: consentId }),
    byTicket: (hash) => table.find({ ticketHash: hash }),
    byState: (hash) => table.find({ stateHash: hash }),
    byCode: (hash) => table.find({ codeHash: hash }),
    async openOf(connectionId) {
      const [row] = await database.select<{ id: Buffer; phase: string; way: string; opened_by: string; expires_at: Date }>(
        `SELECT id, phase, way, opened_by, expires_at FROM consents
         WHERE connection_id = $1 AND finished_at IS NULL AND expires_at > UTC_TIMESTAMP(3)
           AND phase IN ('offered', 'started', 'polling', 'exchanging', 'verifying', 'proving')
         ORDER BY id DESC LIMIT 1`,
        [idBytes(connectionId)],
      );
      return row ? { id: idText(row.id), phase: row.phase, way: row.way, openedBy: row.opened_by, expiresAt: row.expires_at.getTime() } : null;
    },
    async add(row, keptDays) {
      await table.insert(row);
      await database.write(`DELETE FROM consents WHERE expires_at < UTC_TIMESTAMP(3) - INTERVAL ${Math.floor(keptDays)} DAY LIMIT 100`);
    },
    change: async (consentId, set) => void (await table.change({ id: consentId }, set)),
    advance: async (consentId, from, set) => (await table.change({ id: consentId, phase: from }, set)) > 0,
    takeCode: async (consentId, from, codeHash, forMs) =>
      (await database.write(
        `UPDATE consents SET phase = 'exchanging', code_hash = $1, expires_at = ${inMs(forMs)}
         WHERE id = $2 AND phase = $3`,
        [codeHash, idBytes(consentId), from],
      )) > 0,
    finish: async (consentId, set) => void (await table.change({ id: consentId, finishedAt: null }, set)),
    async duePolls(most) {
      const rows = await database.select<{ id: Buffer }>(
        `SELECT id FROM consents
         WHERE poll_at <= UTC_TIMESTAMP(3) AND phase = 'polling' AND expires_at > UTC_TIMESTAMP(3)
         ORDER BY poll_at LIMIT ${Math.floor(most)}`,
      );
      return rows.map((row) => idText(row.id));
    },
    claimPoll: async (consentId, forMs) =>
      (await database.write(
        `UPDATE consents SET poll_at = ${inMs(forMs)}
         WHERE id = $1 AND phase = 'polling' AND poll_at <= UTC_TIMESTAMP(3)`,
        [idBytes(consentId)],
      )) > 0,
  };
}
