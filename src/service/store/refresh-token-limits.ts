import { type Database, idBytes, instantText } from './database.ts';

/** Another connection whose refresh token the provider would expire with one more consent. */
export interface PushedOut {
  connection: string;
  account: string | null;
  held: number;
}

/** The oldest grant of each account of a client that has as many refresh tokens as the provider keeps. `account` null: every account. */
export async function pushedOut(database: Pick<Database, 'select'>, clientId: string, account: string | null, most: number): Promise<PushedOut[]> {
  const rows = await database.select<{ account: string | null; n: number | bigint; oldest: string }>(
    `SELECT MAX(g.account_label) AS account, COUNT(*) AS n, MIN(CONCAT(g.consented_at, ' ', k.name)) AS oldest
     FROM connections k JOIN grants g ON g.id = k.current_grant_id JOIN renewals r ON r.grant_id = g.id
     WHERE k.client_id = $1 AND r.ended = 0 AND r.next_at IS NOT NULL AND ($2 IS NULL OR g.account_label = $3 OR g.account_id = $4)
     GROUP BY g.account_id HAVING COUNT(*) >= ${Math.floor(most)} ORDER BY oldest LIMIT 20`,
    [idBytes(clientId), account, account, account],
  );
  return rows.map((row) => ({ connection: row.oldest.split(' ').at(-1) ?? '', account: row.account, held: Number(row.n) }));
}

/** How many newer grants of the same account at this client are active. `consentedAt`: epoch ms. */
export async function newerGrants(
  database: Pick<Database, 'select'>,
  clientId: string,
  grant: { id: string; accountId: string; consentedAt: number },
): Promise<number> {
  const [row] = await database.select<{ n: number | bigint }>(
    `SELECT COUNT(*) AS n FROM grants g JOIN renewals r ON r.grant_id = g.id
     WHERE r.client_id = $1 AND g.account_id = $2 AND g.id <> $3 AND g.consented_at > $4 AND r.ended = 0 AND r.next_at IS NOT NULL`,
    [idBytes(clientId), grant.accountId, idBytes(grant.id), instantText(grant.consentedAt)],
  );
  return Number(row?.n ?? 0);
}
