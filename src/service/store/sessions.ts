import { SESSION_KINDS } from '../../api/operators.ts';
import { ROLES } from '../../api/roles.ts';
import { bytes, id, instant, oneOf, orNull, text } from './column.ts';
import { type Database, idBytes } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const SESSION = {
  id,
  operatorId: id,
  hash: bytes,
  kind: oneOf(SESSION_KINDS),
  createdAt: instant,
  endsAt: instant,
  /** Of a personal token. */
  name: orNull(text),
  role: orNull(oneOf(ROLES)),
  /** When password or second factor were entered last. */
  confirmedAt: orNull(instant),
  lastUsedAt: orNull(instant),
  address: orNull(text),
  agent: orNull(text),
  /** `sid` of the identity provider's session (OpenID Connect Back-Channel Logout §2.1). */
  identitySession: orNull(text),
};
export type SessionRow = RowOf<typeof SESSION>;

/** Sessions of browsers and programs, and personal tokens. Tokens are stored as hashes. Instants are epoch ms. */
export interface SessionStore {
  byHash(hash: Buffer): Promise<SessionRow | null>;
  /** Newest first, those that expired left out. */
  ofOperator(operatorId: string): Promise<SessionRow[]>;
  /** Adds one, and deletes some that expired. */
  add(row: SessionRow): Promise<void>;
  confirm(sessionId: string, at: number): Promise<void>;
  used(sessionId: string, at: number, address: string): Promise<void>;
  end(sessionId: string): Promise<void>;
  /** Ends one of this operator's; false: there is none. */
  endOf(operatorId: string, sessionId: string): Promise<boolean>;
  /** Ends all sessions of an operator but one, personal tokens left out; how many. */
  endOthers(operatorId: string, sessionId: string): Promise<number>;
  /** Ends all, personal tokens too; how many. */
  endAll(operatorId: string): Promise<number>;
  /** Ends those of whomever that came of one session at the identity provider; how many. */
  endIdentitySession(identitySession: string): Promise<number>;
  /** Ends those that came of one session at the identity provider, or all that came from there; how many. Personal tokens stay. */
  endIdentity(operatorId: string, identitySession: string | null): Promise<number>;
}

export function sessionStore(database: Database): SessionStore {
  const sessions = defineTable(database, 'sessions', SESSION, { primaryKey: ['id'] });
  return {
    byHash: (hash) => sessions.find({ hash }),
    async ofOperator(operatorId) {
      const now = await database.now();
      const rows = await sessions.list({ operatorId }, { orderBy: 'createdAt' });
      return rows.filter((row) => row.endsAt > now).reverse();
    },
    async add(row) {
      await sessions.insert(row);
      await database.write('DELETE FROM sessions WHERE ends_at < UTC_TIMESTAMP(3) LIMIT 100');
    },
    confirm: async (sessionId, confirmedAt) => void (await sessions.change({ id: sessionId }, { confirmedAt })),
    used: async (sessionId, lastUsedAt, address) => void (await sessions.change({ id: sessionId }, { lastUsedAt, address })),
    end: async (sessionId) => void (await sessions.remove({ id: sessionId })),
    endOf: async (operatorId, sessionId) => (await sessions.remove({ id: sessionId, operatorId })) > 0,
    endOthers: (operatorId, sessionId) =>
      database.write(`DELETE FROM sessions WHERE operator_id = $1 AND id <> $2 AND kind <> 'token'`, [idBytes(operatorId), idBytes(sessionId)]),
    endAll: (operatorId) => database.write('DELETE FROM sessions WHERE operator_id = $1', [idBytes(operatorId)]),
    endIdentitySession: (identitySession) => database.write('DELETE FROM sessions WHERE identity_session = $1', [identitySession]),
    endIdentity: (operatorId, identitySession) =>
      identitySession === null
        ? database.write(`DELETE FROM sessions WHERE operator_id = $1 AND kind <> 'token'`, [idBytes(operatorId)])
        : database.write(`DELETE FROM sessions WHERE operator_id = $1 AND identity_session = $2`, [idBytes(operatorId), identitySession]),
  };
}
