import { z } from 'zod';
import { IDENTITY_KINDS } from '../../core/callers/assertion-kinds.ts';
import { id, instant, json, oneOf, orNull, text } from './column.ts';
import { type Database, idText } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

/** What is compared: public keys, or where they are; the claims of a workload token; a certificate. */
const Rule = z.object({
  jwks: z.object({ keys: z.array(z.record(z.string(), z.unknown())) }).nullable(),
  jwks_url: z.string().nullable(),
  issuer: z.string().nullable(),
  audience: z.string().nullable(),
  claims: z.record(z.string(), z.string()),
  thumbprint: z.string().nullable(),
  subject: z.string().nullable(),
});
const COLUMNS = {
  id,
  callerId: id,
  kind: oneOf(IDENTITY_KINDS),
  label: text,
  rule: json(Rule),
  createdBy: text,
  createdAt: instant,
  lastUsedAt: orNull(instant),
};
export type IdentityRow = RowOf<typeof COLUMNS>;
/** With the caller's own ID, as requests name it. */
export type KnownIdentity = IdentityRow & { caller: string };

/** How callers authenticate without a stored secret, and the IDs of assertions that were used. Instants are epoch ms. */
export interface CallerIdentityStore {
  all(): Promise<KnownIdentity[]>;
  ofCaller(callerRecordId: string): Promise<IdentityRow[]>;
  add(row: IdentityRow): Promise<void>;
  remove(callerRecordId: string, identityId: string): Promise<boolean>;
  used(identityId: string, at: number): Promise<void>;
  /** Uses an assertion up; false: it was used before. @param forMs how long it could be sent again */
  useUp(hash: Buffer, forMs: number): Promise<boolean>;
}

export function callerIdentityStore(database: Database): CallerIdentityStore {
  const table = defineTable(database, 'caller_identities', COLUMNS, { primaryKey: ['id'] });
  return {
    async all() {
      const rows = await table.list({}, { orderBy: 'createdAt' });
      const ids = await database.select<{ id: Buffer; caller: string }>(
        'SELECT id, caller_id AS caller FROM callers WHERE id IN (SELECT caller_id FROM caller_identities)',
      );
      const of = new Map(ids.map((one) => [idText(one.id), one.caller]));
      return rows.flatMap((row) => {
        const caller = of.get(row.callerId);
        return caller === undefined ? [] : [{ ...row, caller }];
      });
    },
    ofCaller: (callerId) => table.list({ callerId }, { orderBy: 'createdAt' }),
    add: (row) => table.insert(row),
    remove: async (callerId, identityId) => (await table.remove({ id: identityId, callerId })) > 0,
    used: async (identityId, lastUsedAt) => void (await table.change({ id: identityId }, { lastUsedAt })),
    async useUp(hash, forMs) {
      await database.write('DELETE FROM used_assertions WHERE until < UTC_TIMESTAMP(3) LIMIT 100');
      const micros = Math.ceil(forMs) * 1000;
      return (
        (await database.write(`INSERT IGNORE INTO used_assertions (hash, until) VALUES ($1, UTC_TIMESTAMP(3) + INTERVAL ${micros} MICROSECOND)`, [hash])) > 0
      );
    },
  };
}
