import { Fault } from '../../core/fault.ts';
import { connectionDefinition, type DefinedConnection } from './connection-definition.ts';
import { type Known, readConnections } from './connection-facts.ts';
import type { Services } from './services.ts';

/** @throws {Fault} NOT_FOUND */
export async function findKnown(s: Pick<Services, 'database'>, name: string): Promise<Known> {
  const [found] = await readConnections(s, { name });
  if (!found) throw new Fault('NOT_FOUND', { detail: `No connection is called ${name}.` });
  return found;
}

/** @throws {Fault} CONNECTION_NOT_AGREED */
export async function current(s: Services, name: string): Promise<DefinedConnection & { one: Known; grantId: string }> {
  const one = await findKnown(s, name);
  if (!one.grantId) throw new Fault('CONNECTION_NOT_AGREED');
  return { one, grantId: one.grantId, ...(await connectionDefinition(s, one)) };
}

export function refusePaused(one: Known): void {
  if (one.facts.intent === 'paused') throw new Fault('CONNECTION_PAUSED');
}
