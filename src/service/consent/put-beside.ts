import { retireGrant } from '../registry/revoke.ts';
import type { Services } from '../registry/services.ts';

/** Puts a grant beside the one in use; whatever waited there before is ended. */
export async function putBeside(s: Services, connectionId: string, grantId: string, why: string): Promise<void> {
  const connection = await s.tables.connections.find({ id: connectionId });
  if (connection?.standbyGrantId && connection.standbyGrantId !== grantId) await retireGrant(s, connection.standbyGrantId, 'set_aside', grantId);
  await s.tables.connections.change({ id: connectionId }, { standbyGrantId: grantId, standbyWhy: why });
  if (connection) await s.changes.announce('connection', connection.name);
}
