import { LRUCache } from 'lru-cache';
import type { z } from 'zod';
import type { SignIn } from '../../api/operators.ts';
import { atLeast, type Role } from '../../api/roles.ts';
import { base64url } from '../../core/identifiers.ts';
import { hashOf } from '../hash.ts';
import type { SignedInOperator } from '../operation-call.ts';
import { recordId } from '../ports.ts';
import type { OperatorRow } from '../store/operators.ts';
import type { SessionRow } from '../store/sessions.ts';
import type { Note } from './note.ts';
import type { OperatorParts } from './parts.ts';
import type { Passwords } from './passwords.ts';

const SESSION_MS = 12 * 3_600_000;
const PROGRAM_SESSION_MS = 30 * 86_400_000;
/** A session's last use is written down at most this often. */
const USED_EVERY_MS = 60_000;
const USED_KEPT = 5_000;

/** From where, and with what program, someone signs in. */
export interface From {
  address: string;
  agent: string | null;
  device?: string | undefined;
}
export interface NewSession {
  token: string;
  operator: SignedInOperator;
  device: string;
}
export type Keeps = z.output<typeof SignIn>['keeps'];

/** Sessions of operators in browsers and programs: opened, and checked with each request. */
export function openedSessions(s: OperatorParts, { guard, note }: { guard: Passwords; note: Note }) {
  const { clock, random } = s.ports;
  const used = new LRUCache<string, number>({ max: USED_KEPT });
  const openSession = async (row: OperatorRow, keeps: Keeps, from: From, identitySession: string | null = null): Promise<NewSession> => {
    const token = base64url(random.bytes(32));
    const now = clock.now();
    const kind = keeps === 'token' ? 'program' : 'browser';
    const session: SessionRow = {
      ...{ id: recordId(s.ports), operatorId: row.id, hash: hashOf(token), kind, createdAt: now },
      ...{ endsAt: now + (kind === 'program' ? PROGRAM_SESSION_MS : SESSION_MS), name: null, role: null, confirmedAt: now },
      ...{ lastUsedAt: now, address: from.address.slice(0, 64), agent: from.agent?.slice(0, 200) ?? null, identitySession },
    };
    await s.store.sessions.add(session);
    await s.store.operators.change(row.id, { lastSeenAt: now });
    note(row, 'signed_in', `Signed in ${kind === 'program' ? 'with a program' : 'with a browser'}.`, { address: from.address });
    return { token, operator: signedIn(row, session), device: guard.newDevice(row.name) };
  };
  const noteUse = (session: SessionRow, address: string): void => {
    const now = clock.now();
    if (now - (used.get(session.id) ?? session.lastUsedAt ?? 0) < USED_EVERY_MS && session.address === address) return;
    used.set(session.id, now);
    void s.store.sessions.used(session.id, now, address.slice(0, 64)).catch(() => undefined); // it is written down with the next use
  };
  return {
    openSession,
    /** Who holds this session or personal token; null: nobody who may sign in. */
    async check(token: string, address: string): Promise<SignedInOperator | null> {
      const session = await s.store.sessions.byHash(hashOf(token));
      if (!session || session.endsAt <= clock.now()) return null;
      const row = await s.store.operators.byId(session.operatorId);
      if (row?.state !== 'active') return null;
      noteUse(session, address);
      return signedIn(row, session);
    },
  };
}
export type OpenedSessions = ReturnType<typeof openedSessions>;

const signedIn = (row: OperatorRow, session: SessionRow): SignedInOperator => ({
  id: row.id,
  name: row.name,
  role: lesser(row.role, session.role ?? row.role),
  labels: row.limits,
  sessionId: session.id,
  endsAt: session.endsAt,
  kind: session.kind,
  confirmedAt: session.confirmedAt,
});

const lesser = (a: Role, b: Role): Role => (atLeast(a, b) ? b : a);
