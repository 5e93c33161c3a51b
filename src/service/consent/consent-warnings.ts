import { Fault } from '../../core/fault.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import type { ClientRow } from '../store/clients.ts';
import type { ConnectionRow } from '../store/connections.ts';
import type { PushedOut } from '../store/grants.ts';
import type { ConsentParts } from './parts.ts';

/**
 * What a consent may cost, said before anybody consents. Where it would end another live connection, that is asked first.
 * @param mayEnd the operator said that the oldest may end
 * @throws {Fault} WOULD_END
 */
export async function consentWarnings(
  s: Pick<ConsentParts, 'store'>,
  { connection, client, definition }: { connection: ConnectionRow; client: ClientRow; definition: ProviderDefinition },
  mayEnd: boolean,
): Promise<string[]> {
  const warnings: string[] = [];
  const most = definition.dialect.refresh_tokens_most;
  if (most !== undefined) {
    const pushed = await s.store.grants.pushedOut(client.id, connection.expectedAccount, most);
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
