import type { z } from 'zod';
import type { Revoked } from '../../api/connections.ts';
import { Fault } from '../../core/fault.ts';
import { base64url } from '../../core/identifiers.ts';
import { revocationRequest } from '../../core/oauth/revocation.ts';
import { reasonInWords } from '../../core/oauth/wire.ts';
import { requestDeadlineMs } from '../../core/renewal/plan.ts';
import { end } from '../../core/renewal/transitions.ts';
import { idBytes } from '../store/database.ts';
import { connectionDefinition } from './connection-definition.ts';
import { findKnown } from './connections.ts';
import type { Services } from './services.ts';

/**
 * Ends a connection's grant: no handout any more, then the provider is told (RFC 7009, or its dialect's way), then the tokens are
 * forgotten here. Name, callers and history stay. What the provider answered is said; it is asked once.
 * @throws {Fault} CONNECTION_NOT_AGREED
 */
export async function revokeConnection(s: Services, name: string, operator: string): Promise<z.output<typeof Revoked>> {
  const one = await findKnown(s, name);
  if (!one.grantId) throw new Fault('CONNECTION_NOT_AGREED');
  const { grantId } = one;
  const { definition, record, unconfirmed } = await connectionDefinition(s, one);
  await s.tables.connections.change({ id: one.id }, { intent: 'revoked' });
  s.cache.drop(grantId);
  await s.changes.announce('connection', name);
  const told =
    unconfirmed.length > 0
      ? { there: false, says: 'The provider was not told: its new addresses are not confirmed.' }
      : await tell(s, grantId, record.id, definition);
  await s.renewals.update([grantId], end());
  await s.tables.grants.change({ id: grantId }, { endedAt: s.ports.clock.now(), cause: 'revoked' });
  await s.database.write('DELETE FROM tokens WHERE grant_id = $1', [idBytes(grantId)]);
  s.history.add({ actor: operator, kind: 'revoked', subject: `connection:${name}`, says: `Revoked it. ${told.says}`, data: { revoked_there: told.there } });
  return { revoked_there: told.there, says: told.says };
}

async function tell(
  s: Services,
  grantId: string,
  clientId: string,
  definition: Awaited<ReturnType<typeof connectionDefinition>>['definition'],
): Promise<{ there: boolean | null; says: string }> {
  const byHand = 'Withdraw it on the provider\u2019s own page, where the person gave it.';
  const held = await s.renewals.read(grantId);
  const [credentials] = (await s.contexts.credentialsOf(clientId, definition)).inOrder;
  if (!held || !credentials) return { there: false, says: `The provider was not told: there is ${held ? 'no secret to ask with' : 'no token'}. ${byHand}` };
  const access = await s.sealer.open({ table: 'tokens', row: grantId, column: 'access_sealed' }, held.accessSealed);
  const refresh = held.refreshSealed ? await s.sealer.open({ table: 'tokens', row: grantId, column: 'refresh_sealed' }, held.refreshSealed) : null;
  const once = { now: s.ports.clock.now(), deadlineMs: requestDeadlineMs(s.settings.limits, null), jti: base64url(s.ports.random.bytes(16)) };
  const request = await revocationRequest(definition, credentials, { access, refresh }, once);
  if (!request) return { there: null, says: `This provider has no way to be told. ${byHand}` };
  const answer = await s.ports.send(request);
  if (answer.kind !== 'answer') return { there: false, says: `The provider was not reached: ${reasonInWords(answer.reason)}. ${byHand}` };
  return answer.status >= 200 && answer.status < 300
    ? { there: true, says: 'The provider took it back.' }
    : { there: false, says: `The provider answered ${answer.status}. ${byHand}` };
}
