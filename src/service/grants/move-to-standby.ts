import type { StandbyWhy } from '../store/connections.ts';
import type { GrantParts } from './parts.ts';
import { retireGrant } from './retire.ts';

/** Puts a grant beside the current one; whatever waited there before is ended. */
export async function moveToStandby(s: GrantParts, connectionId: string, grantId: string, why: StandbyWhy): Promise<void> {
  const connection = await s.store.connections.byId(connectionId);
  if (connection?.standbyGrantId && connection.standbyGrantId !== grantId) await retireGrant(s, connection.standbyGrantId, 'set_aside', grantId);
  await s.store.connections.change(connectionId, { standbyGrantId: grantId, standbyWhy: why });
  if (connection) await s.changes.announce('connection', connection.name);
}
