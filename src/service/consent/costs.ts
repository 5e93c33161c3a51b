import type { ProviderDefinition } from '../../core/provider/definition.ts';
import type { Services } from '../registry/services.ts';
import { idBytes } from '../store/database.ts';
import type { Row } from '../store/tables.ts';

/** What a consent may cost, said before anybody consents. */
export async function costs(
  s: Pick<Services, 'database'>,
  connection: Row<'connections'>,
  client: Row<'clients'>,
  definition: ProviderDefinition,
): Promise<string[]> {
  const warnings: string[] = [];
  const most = definition.dialect.refresh_tokens_most;
  if (most !== undefined) {
    const [count] = await s.database.select<{ n: number | bigint; oldest: string | null }>(
      `SELECT COUNT(*) AS n, MIN(CONCAT(g.consented_at, ' ', k.name)) AS oldest FROM connections k JOIN grants g ON g.id = k.current_grant_id JOIN renewals r ON r.grant_id = g.id
       WHERE k.client_id = $1 AND r.ended = 0 AND r.next_at IS NOT NULL AND ($2 IS NULL OR g.account_label = $3 OR g.account_id = $4)`,
      [idBytes(client.id), connection.expectedAccount, connection.expectedAccount, connection.expectedAccount],
    );
    const held = Number(count?.n ?? 0);
    if (held >= most)
      warnings.push(
        `${definition.title} keeps ${most} refresh tokens for each person and client, and ${held} are held here${connection.expectedAccount ? ` for ${connection.expectedAccount}` : ''}: if the same person consents once more, the oldest ends (${count?.oldest?.split(' ').at(-1) ?? ''}).`,
      );
  }
  const reach = definition.reach.find((one) => one.reach === client.reach);
  if (reach) warnings.push(reach.says);
  return warnings;
}
