import type { z } from 'zod';
import type { SignedInTool } from '../../api/callers.ts';
import { Fault } from '../../core/fault.ts';
import { iso, isoOrNull } from '../iso.ts';
import type { EndedWhy } from '../store/tool-sign-ins.ts';
import type { ToolSignInParts } from './parts.ts';

const ENDED_SHOWN_DAYS = 7;

/** The sign-ins of a caller's tools, those that are over for a week too. */
export async function signedInTools(s: Pick<ToolSignInParts, 'store'>, callerId: string): Promise<z.output<typeof SignedInTool>[]> {
  return (await s.store.toolSignIns.list(callerId, ENDED_SHOWN_DAYS)).map((one) => ({
    id: one.id,
    connection: one.connection,
    operator: one.operator,
    signed_in_at: iso(one.createdAt),
    last_used_at: isoOrNull(one.lastUsedAt),
    ended_at: isoOrNull(one.endedAt),
    ended_why: one.endedWhy,
  }));
}

/** Ends sign-ins: their refresh tokens and opaque access tokens stop working at once. How many were ended. */
export async function endSignIns(s: ToolSignInParts, which: { id: string } | { callerId: string } | { connectionId: string }, why: EndedWhy): Promise<number> {
  const ended = await s.store.toolSignIns.end(which, why);
  if (ended > 0) await s.changes.announce('caller', Object.values(which)[0] ?? '');
  return ended;
}

/** An operator ends the sign-in of one tool. @throws {Fault} NOT_FOUND */
export async function endSignIn(s: ToolSignInParts, caller: { id: string; name: string }, id: string, operator: string): Promise<void> {
  const found = await s.store.toolSignIns.ofCaller(caller.id, id);
  if (!found) throw new Fault('NOT_FOUND', { detail: 'The caller has no such sign-in.' });
  if ((await endSignIns(s, { id }, 'operator')) === 0) return;
  s.history.add({ actor: operator, kind: 'tool_signed_out', subject: `caller:${caller.name}`, says: 'Ended the sign-in of a tool.' });
}
