import { FACTOR_KINDS } from '../../api/operators.ts';
import { bytes, id, instant, number, oneOf, orNull, text } from './column.ts';
import { type Database, idBytes, instantText } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const FACTOR = {
  id,
  operatorId: id,
  kind: oneOf(FACTOR_KINDS),
  name: text,
  /** Of an authenticator app. */
  secretSealed: orNull(bytes),
  /** Of a passkey. */
  credentialId: orNull(bytes),
  publicKey: orNull(bytes),
  /** The last time step whose code was used (RFC 6238 §5.2), or the passkey's signature counter (WebAuthn §6.1.1). */
  counter: number,
  /** While it is being set up. */
  challenge: orNull(text),
  /** Null: it is being set up, and counts for nothing. */
  verifiedAt: orNull(instant),
  createdAt: instant,
  lastUsedAt: orNull(instant),
};
const CODE = { id, operatorId: id, hash: bytes, usedAt: orNull(instant) };
export type FactorRow = RowOf<typeof FACTOR>;

/** Second factors of operators, and their recovery codes, as hashes. Instants are epoch ms. */
export interface SecondFactorStore {
  /** Oldest first, those being set up included. */
  ofOperator(operatorId: string): Promise<FactorRow[]>;
  byId(factorId: string): Promise<FactorRow | null>;
  /** Adds one that is being set up; what was begun before and never finished is deleted. */
  add(row: FactorRow): Promise<void>;
  verified(factorId: string, set: Pick<FactorRow, 'verifiedAt' | 'counter' | 'credentialId' | 'publicKey'>): Promise<void>;
  /** Counts a use; false: this code or counter was used already. */
  use(factorId: string, counter: number, at: number, mayRepeat: boolean): Promise<boolean>;
  remove(operatorId: string, factorId: string): Promise<boolean>;
  /** Removes all, recovery codes too. */
  removeAll(operatorId: string): Promise<void>;
  codesLeft(operatorId: string): Promise<number>;
  replaceCodes(operatorId: string, rows: { id: string; hash: Buffer }[]): Promise<void>;
  /** Uses one up; false: it is none, or was used. */
  useCode(operatorId: string, hash: Buffer): Promise<boolean>;
}

export function secondFactorStore(database: Database): SecondFactorStore {
  const factors = defineTable(database, 'second_factors', FACTOR, { primaryKey: ['id'] });
  const codes = defineTable(database, 'recovery_codes', CODE, { primaryKey: ['id'] });
  return {
    ofOperator: (operatorId) => factors.list({ operatorId }, { orderBy: 'createdAt' }),
    byId: (factorId) => factors.find({ id: factorId }),
    async add(row) {
      await database.write('DELETE FROM second_factors WHERE operator_id = $1 AND verified_at IS NULL', [idBytes(row.operatorId)]);
      await factors.insert(row);
    },
    verified: async (factorId, set) => void (await factors.change({ id: factorId }, { ...set, challenge: null })),
    async use(factorId, counter, lastUsedAt, mayRepeat) {
      const changed = await database.write(`UPDATE second_factors SET counter = $1, last_used_at = $2 WHERE id = $3 AND counter ${mayRepeat ? '<=' : '<'} $4`, [
        counter,
        instantText(lastUsedAt),
        idBytes(factorId),
        counter,
      ]);
      return changed > 0 || mayRepeat;
    },
    remove: async (operatorId, factorId) => (await factors.remove({ id: factorId, operatorId })) > 0,
    async removeAll(operatorId) {
      await factors.remove({ operatorId });
      await codes.remove({ operatorId });
    },
    codesLeft: async (operatorId) => (await codes.list({ operatorId })).filter((one) => one.usedAt === null).length,
    replaceCodes: (operatorId, rows) =>
      database.transaction(async (transaction) => {
        await codes.remove({ operatorId }, transaction);
        for (const row of rows) await codes.insert({ ...row, operatorId, usedAt: null }, transaction);
      }),
    useCode: async (operatorId, hash) =>
      (await database.write('UPDATE recovery_codes SET used_at = UTC_TIMESTAMP(3) WHERE operator_id = $1 AND hash = $2 AND used_at IS NULL', [
        idBytes(operatorId),
        hash,
      ])) > 0,
  };
}
