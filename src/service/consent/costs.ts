import { Fault } from '../../core/fault.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import type { Services } from '../registry/services.ts';
import { idBytes } from '../store/database.ts';
import type { Row } from '../store/tables.ts';

/** Another connection whose refresh token the provider would end with one more consent. */
interface PushedOut {
  connection: string;
  account: string | null;
  held: number;
}

/** The oldest grant of each account that holds as many refresh tokens as the provider keeps (the dialect's `refresh_tokens_most`). */
async function pushedOut(s: Pick<Services, 'database'>, connection: Row<'connections'>, client: Row<'clients'>, most: number): Promise<PushedOut[]> {
  const rows = await s.database.select<{ account: string | null; n: number | bigint; oldest: string }>(
    `SELECT MAX(g.account_label) AS account, COUNT(*) AS n, MIN(CONCAT(g.consented_at, ' ', k.name)) AS oldest
     FROM connections k JOIN grants g ON g.id = k.current_grant_id JOIN renewals r ON r.grant_id = g.id
     WHERE k.client_id = $1 AND r.ended = 0 AND r.next_at IS NOT NULL AND ($2 IS NULL OR g.account_label = $3 OR g.account_id = $4)
     GROUP BY g.account_id HAVING COUNT(*) >= ${Math.floor(most)} ORDER BY oldest LIMIT 20`,
    [idBytes(client.id), connection.expectedAccount, connection.expectedAccount, connection.expectedAccount],
  );
  return rows.map((row) => ({ connection: row.oldest.split(' ').at(-1) ?? '', account: row.account, held: Number(row.n) }));
}

/**
 * What a consent may cost, said before anybody consents. Where it would end another live connection, that is asked first.
 * @param mayEnd the operator said that the oldest may end
 * @throws {Fault} WOULD_END
 */
export async function costs(
  s: Pick<Services, 'database'>,
  connection: Row<'connections'>,
  client: Row<'clients'>,
  definition: ProviderDefinition,
  mayEnd: boolean,
): Promise<string[]> {
  const warnings: string[] = [];
  const most = definition.dialect.refresh_tokens_most;
  if (most !== undefined) {
    const pushed = await pushedOut(s, connection, client, most);
    const inWords = (one: PushedOut) =>
      `${definition.title} keeps ${most} refresh tokens for each person and client, and ${one.held} are held here${one.account ? ` for ${one.account}` : ''}: if the same person consents once more, the oldest ends (${one.connection}).`;
    const others = pushed.filter((one) => one.connection !== connection.name); // its own former one is replaced in any case
    if (others.length > 0 && !mayEnd) throw new Fault('WOULD_END', { detail: others.map(inWords).join(' ') });
    warnings.push(...pushed.map(inWords));
  }
  const reach = definition.reach.find((one) => one.reach === client.reach);
  if (reach) warnings.push(reach.says);
  return warnings;
}
