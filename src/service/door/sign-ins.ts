import type { z } from 'zod';
import type { SignedInTool } from '../../api/callers.ts';
import { Fault } from '../../core/fault.ts';
import type { Services } from '../registry/services.ts';
import { iso, isoOrNull } from '../registry/services.ts';
import { type Bind, idBytes, idText } from '../store/database.ts';

type Needs = Pick<Services, 'database' | 'tables' | 'changes' | 'history'>;

const ENDED_SHOWN_DAYS = 7;

/** The sign-ins of a caller's tools, those that are over for a week too. */
export async function signedInTools(s: Pick<Needs, 'database'>, callerId: string): Promise<z.output<typeof SignedInTool>[]> {
  const rows = await s.database.select<{
    id: Buffer;
    name: string;
    operator: string;
    created_at: Date;
    last_used_at: Date | null;
    ended_at: Date | null;
    ended_why: string | null;
  }>(
    `SELECT d.id, k.name, d.operator, d.created_at, d.last_used_at, d.ended_at, d.ended_why FROM door_sign_ins d JOIN connections k ON k.id = d.connection_id
     WHERE d.caller_id = $1 AND (d.ended_at IS NULL OR d.ended_at > UTC_TIMESTAMP(3) - INTERVAL ${ENDED_SHOWN_DAYS} DAY) ORDER BY d.created_at DESC LIMIT 50`,
    [idBytes(callerId)],
  );
  return rows.map((row) => ({
    id: idText(row.id),
    connection: row.name,
    operator: row.operator,
    signed_in_at: iso(row.created_at.getTime()),
    last_used_at: isoOrNull(row.last_used_at?.getTime() ?? null),
    ended_at: isoOrNull(row.ended_at?.getTime() ?? null),
    ended_why: row.ended_why,
  }));
}

export type EndedWhy = 'operator' | 'tool_revoked' | 'token_reused' | 'code_reused' | 'caller_removed' | 'connection_removed';

/** Ends sign-ins: their refresh tokens and opaque access tokens stop working at once. How many were ended. */
export async function endSignIns(s: Needs, which: { id: string } | { callerId: string } | { connectionId: string }, why: EndedWhy): Promise<number> {
  const [column, value] = 'id' in which ? ['id', which.id] : 'callerId' in which ? ['caller_id', which.callerId] : ['connection_id', which.connectionId];
  const bind: Bind[] = [why, idBytes(value)];
  const ended = await s.database.write(`UPDATE door_sign_ins SET ended_at = UTC_TIMESTAMP(3), ended_why = $1 WHERE ${column} = $2 AND ended_at IS NULL`, bind);
  if (ended > 0) await s.changes.announce('caller', value);
  return ended;
}

/** An operator ends the sign-in of one tool. @throws {Fault} NOT_FOUND */
export async function endSignIn(s: Needs, caller: { id: string; name: string }, id: string, operator: string): Promise<void> {
  const found = await s.tables.doorSignIns.find({ id, callerId: caller.id });
  if (!found) throw new Fault('NOT_FOUND', { detail: 'The caller has no such sign-in.' });
  if ((await endSignIns(s, { id }, 'operator')) === 0) return;
  s.history.add({ actor: operator, kind: 'tool_signed_out', subject: `caller:${caller.name}`, says: 'Ended the sign-in of a tool.' });
}
