import { bytes, flag, id, instant, oneOf, orNull, text } from './column.ts';
import { type Database, idBytes, idText, instantText } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const REQUEST = {
  id,
  callerId: id,
  redirectUri: text,
  redirectUriGiven: flag,
  state: orNull(text),
  challenge: orNull(text),
  wished: orNull(text),
  cookieHash: bytes,
  phase: oneOf(['asked', 'ended', 'coded', 'spent']),
  connectionId: orNull(id),
  operator: orNull(text),
  codeHash: orNull(bytes),
  codeEndsAt: orNull(instant),
  signInId: orNull(id),
  expiresAt: instant,
  createdAt: instant,
};
const SIGN_IN = {
  id,
  callerId: id,
  connectionId: id,
  operator: text,
  createdAt: instant,
  lastUsedAt: orNull(instant),
  endedAt: orNull(instant),
  endedWhy: orNull(text),
};
const TOKEN = { hash: bytes, signInId: id, kind: oneOf(['refresh', 'access', 'handed']), createdAt: instant, endsAt: instant, spentAt: orNull(instant) };
export type SignInRequestRow = RowOf<typeof REQUEST>;
type ToolSignInRow = RowOf<typeof SIGN_IN>;
type ToolTokenRow = RowOf<typeof TOKEN>;

export type EndedWhy = 'operator' | 'tool_revoked' | 'token_reused' | 'code_reused' | 'caller_removed' | 'connection_removed';
/** A sign-in as it is listed, with the name of its connection. */
type ShownSignIn = Omit<ToolSignInRow, 'callerId' | 'connectionId'> & { connection: string };

/** Sign-ins of tools: requests with their codes, and the tokens that they brought. Tokens and codes are stored as hashes. */
export interface ToolSignInStore {
  request(requestId: string): Promise<SignInRequestRow | null>;
  requestByCode(hash: Buffer): Promise<SignInRequestRow | null>;
  /** Adds one, and deletes some that expired more than a day ago. */
  addRequest(row: SignInRequestRow): Promise<void>;
  /** Answers a request that nobody has answered; false: someone has. */
  answer(requestId: string, set: Partial<SignInRequestRow>): Promise<boolean>;
  byId(signInId: string): Promise<ToolSignInRow | null>;
  ofCaller(callerRecordId: string, signInId: string): Promise<ToolSignInRow | null>;
  /** Newest first; those that ended up to so many days ago, too. */
  list(callerRecordId: string, endedDays: number): Promise<ShownSignIn[]>;
  /** Epoch ms; null: never. */
  lastUsed(callerRecordId: string): Promise<number | null>;
  /** Ends sign-ins with their tokens; how many. */
  end(which: { id: string } | { callerId: string } | { connectionId: string }, why: EndedWhy): Promise<number>;
  token(hash: Buffer): Promise<ToolTokenRow | null>;
  addToken(row: ToolTokenRow): Promise<void>;
  /** Spends a code: the sign-in begins with its first refresh token. False: the code was spent before. */
  spendCode(requestId: string, signIn: ToolSignInRow, next: ToolTokenRow): Promise<boolean>;
  /** Spends a refresh token for the next one. False: it was spent before. */
  spendRefreshToken(hash: Buffer, signIn: { id: string; usedAt: number }, next: ToolTokenRow): Promise<boolean>;
  spend(hash: Buffer): Promise<void>;
  deleteExpiredTokens(): Promise<void>;
  /** Notes which sign-in holds a token of the provider. */
  noteIssued(hash: Buffer, signInId: string, endsAt: number): Promise<void>;
  /** For whom an opaque access token is good; null: it is none, or has ended. */
  relayToken(hash: Buffer): Promise<{ callerId: string; connection: string; endsAt: number } | null>;
  /** Who consented to the connection of a token; null: it is none of ours, or has ended. */
  accountOf(hash: Buffer): Promise<{ connection: string; accountId: string | null; accountLabel: string | null } | null>;
}

export function toolSignInStore(database: Database): ToolSignInStore {
  const requests = defineTable(database, 'door_requests', REQUEST, { primaryKey: ['id'] });
  const signIns = defineTable(database, 'door_sign_ins', SIGN_IN, { primaryKey: ['id'] });
  const tokens = defineTable(database, 'door_tokens', TOKEN, { primaryKey: ['hash'] });
  return {
    request: (requestId) => requests.find({ id: requestId }),
    requestByCode: (hash) => requests.find({ codeHash: hash }),
    async addRequest(row) {
      await requests.insert(row);
      await database.write('DELETE FROM door_requests WHERE expires_at < UTC_TIMESTAMP(3) - INTERVAL 1 DAY LIMIT 200');
    },
    answer: async (requestId, set) => (await requests.change({ id: requestId, phase: 'asked' }, set)) > 0,
    byId: (signInId) => signIns.find({ id: signInId }),
    ofCaller: (callerRecordId, signInId) => signIns.find({ id: signInId, callerId: callerRecordId }),
    async list(callerRecordId, endedDays) {
      const rows = await database.select<{
        id: Buffer;
        name: string;
        operator: string;
        created_at: Date;
        last_used_at: Date | null;
        ended_at: Date | null;
        ended_why: string | null;
      }>(
        `SELECT d.id, k.name, d.operator, d.created_at, d.last_used_at, d.ended_at, d.ended_why
         FROM door_sign_ins d JOIN connections k ON k.id = d.connection_id
         WHERE d.caller_id = $1 AND (d.ended_at IS NULL OR d.ended_at > UTC_TIMESTAMP(3) - INTERVAL ${Math.floor(endedDays)} DAY)
         ORDER BY d.created_at DESC LIMIT 50`,
        [idBytes(callerRecordId)],
      );
      return rows.map((row) => ({
        id: idText(row.id),
        connection: row.name,
        operator: row.operator,
        createdAt: row.created_at.getTime(),
        lastUsedAt: row.last_used_at?.getTime() ?? null,
        endedAt: row.ended_at?.getTime() ?? null,
        endedWhy: row.ended_why,
      }));
    },
    async lastUsed(callerRecordId) {
      const [row] = await database.select<{ at: Date | null }>('SELECT MAX(last_used_at) AS at FROM door_sign_ins WHERE caller_id = $1', [
        idBytes(callerRecordId),
      ]);
      return row?.at?.getTime() ?? null;
    },
    async end(which, why) {
      const [column, value] = 'id' in which ? ['id', which.id] : 'callerId' in which ? ['caller_id', which.callerId] : ['connection_id', which.connectionId];
      return database.write(`UPDATE door_sign_ins SET ended_at = UTC_TIMESTAMP(3), ended_why = $1 WHERE ${column} = $2 AND ended_at IS NULL`, [
        why,
        idBytes(value),
      ]);
    },
    token: (hash) => tokens.find({ hash }),
    addToken: (row) => tokens.insert(row),
    spendCode: (requestId, signIn, next) =>
      database.attempt(async (transaction) => {
        if ((await requests.change({ id: requestId, phase: 'coded' }, { phase: 'spent', signInId: signIn.id }, transaction)) === 0) return false;
        await signIns.insert(signIn, transaction);
        await tokens.insert(next, transaction);
        return true;
      }),
    spendRefreshToken: (hash, signIn, next) =>
      database.attempt(async (transaction) => {
        const spent = await database.write('UPDATE door_tokens SET spent_at = UTC_TIMESTAMP(3) WHERE hash = $1 AND spent_at IS NULL', [hash], transaction);
        if (spent === 0) return false;
        await tokens.insert(next, transaction);
        await signIns.change({ id: signIn.id }, { lastUsedAt: signIn.usedAt }, transaction);
        return true;
      }),
    spend: async (hash) => void (await database.write('UPDATE door_tokens SET spent_at = UTC_TIMESTAMP(3) WHERE hash = $1 AND spent_at IS NULL', [hash])),
    deleteExpiredTokens: async () => void (await database.write('DELETE FROM door_tokens WHERE ends_at < UTC_TIMESTAMP(3) LIMIT 200')),
    noteIssued: async (hash, signInId, endsAt) =>
      void (await database.write(
        `INSERT INTO door_tokens (hash, sign_in_id, kind, created_at, ends_at) VALUES ($1, $2, 'handed', UTC_TIMESTAMP(3), $3)
         ON DUPLICATE KEY UPDATE sign_in_id = VALUES(sign_in_id), ends_at = VALUES(ends_at)`,
        [hash, idBytes(signInId), instantText(endsAt)],
      )),
    async relayToken(hash) {
      const [row] = await database.select<{ caller_id: string; name: string; ends_at: Date }>(
        `SELECT c.caller_id, k.name, t.ends_at
         FROM door_tokens t JOIN door_sign_ins d ON d.id = t.sign_in_id JOIN callers c ON c.id = d.caller_id JOIN connections k ON k.id = d.connection_id
         WHERE t.hash = $1 AND t.kind = 'access' AND d.ended_at IS NULL AND t.spent_at IS NULL`,
        [hash],
      );
      return row ? { callerId: row.caller_id, connection: row.name, endsAt: row.ends_at.getTime() } : null;
    },
    async accountOf(hash) {
      const [row] = await database.select<{ name: string; account_id: string | null; account_label: string | null }>(
        `SELECT k.name, g.account_id, g.account_label
         FROM door_tokens t JOIN door_sign_ins d ON d.id = t.sign_in_id JOIN connections k ON k.id = d.connection_id
         LEFT JOIN grants g ON g.id = k.current_grant_id
         WHERE t.hash = $1 AND t.kind IN ('access', 'handed') AND t.spent_at IS NULL AND t.ends_at > UTC_TIMESTAMP(3) AND d.ended_at IS NULL`,
        [hash],
      );
      return row ? { connection: row.name, accountId: row.account_id, accountLabel: row.account_label } : null;
    },
  };
}
