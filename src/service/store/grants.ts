import { z } from 'zod';
import type { CallAnswer } from '../../api/common.ts';
import type { Diagnosis } from '../../core/diagnosis/diagnosis.ts';
import { PROOF_STATES } from '../../core/health.ts';
import { GRANT_KINDS } from '../../core/oauth/grant-kinds.ts';
import { documentWith, id, instant, json, oneOf, orElse, orNull, text, textList, textMap } from './column.ts';
import { MARKED_DUE } from './connection-states.ts';
import { type Database, idBytes, instantText } from './database.ts';
import { defineTable, type RowOf } from './table.ts';
import { deleteTokens } from './tokens.ts';

/** How a probe of one capability went. */
export interface KeptCapability {
  state: 'verified' | 'failed';
  at: string;
  diagnosis: Diagnosis | null;
}

const COLUMNS = {
  id,
  connectionId: id,
  kind: oneOf(GRANT_KINDS),
  personKey: orNull(text),
  accountId: orNull(text),
  accountLabel: orNull(text),
  scopes: textList,
  consentedBy: orNull(text),
  consentedAt: instant,
  endedAt: orNull(instant),
  cause: orNull(text),
  evidence: orNull(text),
  proof: oneOf(PROOF_STATES),
  proofAnswer: orElse(json(documentWith<CallAnswer>('method', 'url', 'status', 'at').nullable()), null),
  lifeEndsAt: orNull(instant),
  apiBaseUrl: orNull(text),
  /** The client through which its tokens came; null in grants of earlier versions. */
  clientId: orNull(id),
  /** Null: the connection's. */
  placeholders: orNull(textMap),
  opened: orNull(text),
  abilities: orElse(json(z.record(z.string(), documentWith<KeptCapability>('state', 'at'))), {}),
  claims: orElse(json(z.record(z.string(), z.string()).nullable()), null),
  subject: orNull(text),
};
export type GrantRow = RowOf<typeof COLUMNS>;

/** Another connection whose refresh token the provider would expire with one more consent. */
export interface PushedOut {
  connection: string;
  account: string | null;
  held: number;
}

/** Grants: what one consent produced, or a client's own. Their tokens are in `renewals.ts`. */
export interface GrantStore {
  byId(grantId: string): Promise<GrantRow | null>;
  ofConnection(connectionId: string): Promise<GrantRow[]>;
  add(row: GrantRow): Promise<void>;
  change(grantId: string, set: Partial<Omit<GrantRow, 'id' | 'connectionId'>>): Promise<void>;
  /** Ends it; `at`: epoch ms. Its tokens stay until `discardTokens`. */
  end(grantId: string, at: number, cause: 'set_aside' | 'replaced' | 'forgotten' | 'revoked'): Promise<void>;
  discardTokens(grantId: string): Promise<void>;
  /** The oldest grant of each account of a client that has as many refresh tokens as the provider keeps. `account` null: every account. */
  pushedOut(clientId: string, account: string | null, most: number): Promise<PushedOut[]>;
  /** How many newer grants of the same account at this client are active. */
  newerThan(clientId: string, grant: { id: string; accountId: string; consentedAt: number }): Promise<number>;
}

/** What the shown state and the search of a connection depend on. */
const SHOWN = ['proof', 'accountLabel'] as const;

export function grantStore(database: Database): GrantStore {
  const table = defineTable(database, 'grants', COLUMNS, { primaryKey: ['id'] });
  return {
    byId: (grantId) => table.find({ id: grantId }),
    ofConnection: (connectionId) => table.list({ connectionId }),
    add: (row) => table.insert(row),
    async change(grantId, set) {
      await table.change({ id: grantId }, set);
      if (SHOWN.some((column) => column in set)) await database.write(`UPDATE connections SET ${MARKED_DUE} WHERE current_grant_id = $1`, [idBytes(grantId)]);
    },
    end: async (grantId, at, cause) => void (await table.change({ id: grantId }, { endedAt: at, cause })),
    discardTokens: (grantId) => deleteTokens(database, grantId),
    async pushedOut(clientId, account, most) {
      const rows = await database.select<{ account: string | null; n: number | bigint; oldest: string }>(
        `SELECT MAX(g.account_label) AS account, COUNT(*) AS n, MIN(CONCAT(g.consented_at, ' ', k.name)) AS oldest
         FROM connections k JOIN grants g ON g.id = k.current_grant_id JOIN renewals r ON r.grant_id = g.id
         WHERE k.client_id = $1 AND r.ended = 0 AND r.next_at IS NOT NULL AND ($2 IS NULL OR g.account_label = $3 OR g.account_id = $4)
         GROUP BY g.account_id HAVING COUNT(*) >= ${Math.floor(most)} ORDER BY oldest LIMIT 20`,
        [idBytes(clientId), account, account, account],
      );
      return rows.map((row) => ({ connection: row.oldest.split(' ').at(-1) ?? '', account: row.account, held: Number(row.n) }));
    },
    async newerThan(clientId, grant) {
      const [row] = await database.select<{ n: number | bigint }>(
        `SELECT COUNT(*) AS n FROM grants g JOIN renewals r ON r.grant_id = g.id
         WHERE r.client_id = $1 AND g.account_id = $2 AND g.id <> $3 AND g.consented_at > $4 AND r.ended = 0 AND r.next_at IS NOT NULL`,
        [idBytes(clientId), grant.accountId, idBytes(grant.id), instantText(grant.consentedAt)],
      );
      return Number(row?.n ?? 0);
    },
  };
}
