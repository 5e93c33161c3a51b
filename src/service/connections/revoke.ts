import type { z } from 'zod';
import type { Connection, Revoked } from '../../api/connections.ts';
import { Fault } from '../../core/fault.ts';
import { note, type RevocationResult, revokeAtProvider, tryRevocation } from '../grants/index.ts';
import { isoOrNull } from '../iso.ts';
import type { Command } from '../operation-call.ts';
import { findKnown } from './find.ts';
import type { ConnectionParts } from './parts.ts';

/**
 * Ends a connection's grants: no token is issued any more, then the grant is revoked at the provider (RFC 7009, or its dialect's way), then the tokens are
 * discarded here. Name, callers and history stay. Where the provider could not be told, the tokens are kept sealed for that alone, and
 * it is retried. @throws {Fault} CONNECTION_NOT_CONSENTED
 */
export async function revokeConnection(s: ConnectionParts, { params, actor }: Command<'revokeConnection'>): Promise<z.output<typeof Revoked>> {
  const { connection: name } = params;
  const operator = actor.operator.name;
  const one = await findKnown(s, name);
  if (!one.grantId) throw new Fault('CONNECTION_NOT_CONSENTED');
  await s.store.connections.change(one.id, { intent: 'revoked', standbyGrantId: null, standbyWhy: null });
  const grants = [one.grantId, ...(one.standby ? [one.standby.grantId] : [])];
  for (const id of grants) s.cache.drop(id);
  await s.changes.announce('connection', name);
  const told: RevocationResult[] = [];
  for (const id of grants) told.push(await revokeAtProvider(s, id));
  const [first] = told;
  const result = { there: first?.there ?? null, says: [...new Set(told.map((one) => one.says))].join(' ') };
  s.history.add({
    actor: operator,
    kind: 'revoked',
    subject: `connection:${name}`,
    says: `Revoked it. ${result.says}`.slice(0, 600),
    data: { revoked_there: result.there },
  });
  return { revoked_there: result.there, says: result.says };
}

/** Tells the provider now. @throws {Fault} NOT_FOUND */
export async function retryRevocation(s: ConnectionParts, { params, actor }: Command<'retryRevocation'>): Promise<z.output<typeof Revoked>> {
  const { connection: name } = params;
  const operator = actor.operator.name;
  const rows = await s.store.revocations.ofConnection(name);
  if (rows.length === 0) throw new Fault('NOT_FOUND', { detail: `No revocation of ${name} is waiting.` });
  const told = await Promise.all(rows.map((row) => tryRevocation(s, row)));
  for (const one of told) note(s, name, operator, one);
  return { revoked_there: told[0]?.there ?? null, says: told.map((one) => one.says).join(' ') };
}

/** The revocation of which the provider does not know yet, if any. */
export async function revocationView(s: Pick<ConnectionParts, 'store'>, name: string): Promise<Connection['revocation']> {
  const [row] = await s.store.revocations.ofConnection(name);
  return row ? { says: row.says, tries: row.tries, next_at: isoOrNull(row.nextAt) } : null;
}
