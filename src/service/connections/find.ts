import { Fault } from '../../core/fault.ts';
import { connectionDefinition, type DefinedConnection } from '../grants/index.ts';
import type { ListedConnection } from '../store/connection-rows.ts';
import type { ConnectionParts } from './parts.ts';

/** @throws {Fault} NOT_FOUND */
export async function findKnown(s: Pick<ConnectionParts, 'store'>, name: string): Promise<ListedConnection> {
  const [found] = await s.store.connectionList.read({ names: [name] });
  if (!found) throw new Fault('NOT_FOUND', { detail: `Connection "${name}" not found.` });
  return found;
}

/** @throws {Fault} CONNECTION_NOT_CONSENTED */
export async function current(s: ConnectionParts, name: string): Promise<DefinedConnection & { one: ListedConnection; grantId: string }> {
  const one = await findKnown(s, name);
  if (!one.grantId) throw new Fault('CONNECTION_NOT_CONSENTED');
  return { one, grantId: one.grantId, ...(await connectionDefinition(s, one)) };
}

export function refusePaused(one: ListedConnection): void {
  if (one.facts.intent === 'paused') throw new Fault('CONNECTION_PAUSED');
}
