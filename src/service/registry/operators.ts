import { createHash } from 'node:crypto';
import { hash, verify } from '@node-rs/argon2';
import { RateLimiterMemory } from 'rate-limiter-flexible';
import type { z } from 'zod';
import type { FirstOperator, SignIn } from '../../api/operators.ts';
import { Fault } from '../../core/fault.ts';
import { base64url } from '../../core/identifiers.ts';
import { recordId } from '../ports.ts';
import type { Services } from './services.ts';

type Needs = Pick<Services, 'tables' | 'history' | 'ports' | 'database'>;

const SESSION_MS = 12 * 3_600_000;
const PROGRAM_SESSION_MS = 30 * 86_400_000;
const TICKET_MS = 24 * 3_600_000;
const WRONG_MOST = 5;
const WRONG_WINDOW_SECONDS = 300;

export const hashText = (text: string): Buffer => createHash('sha256').update(text, 'utf8').digest();

export interface SignedInOperator {
  name: string;
  sessionId: string;
  endsAt: number;
  kind: string;
}

/** Operators, their sessions, and the one-time ticket that makes the first of them. */
export function operators(s: Needs) {
  const byName = new RateLimiterMemory({ points: WRONG_MOST, duration: WRONG_WINDOW_SECONDS });
  const byAddress = new RateLimiterMemory({ points: WRONG_MOST * 6, duration: WRONG_WINDOW_SECONDS });
  // Verified when the name is unknown, so that both answers take as long.
  const decoy = hash('nobody has this password');

  const throttled = async (name: string, address: string): Promise<number> => {
    const states = await Promise.all([byName.get(`${name}|${address}`), byAddress.get(address)]);
    const over = [
      states[0] && states[0].consumedPoints >= WRONG_MOST ? states[0].msBeforeNext : 0,
      states[1] && states[1].consumedPoints >= WRONG_MOST * 6 ? states[1].msBeforeNext : 0,
    ];
    return Math.max(...over);
  };
  /** The operator whose password this is, or null; wrong ones are counted by name and address. @throws {Fault} SIGN_IN_THROTTLED */
  const withPassword = async (name: string, password: string, address: string) => {
    const waitMs = await throttled(name, address);
    if (waitMs > 0) throw new Fault('SIGN_IN_THROTTLED', { retryAfterMs: waitMs });
    const found = await s.tables.operators.find({ name });
    const good = await verify(found?.passwordHash ?? (await decoy), password);
    if (!found || !good) {
      await Promise.all([byName.consume(`${name}|${address}`), byAddress.consume(address)]).catch(() => undefined); // over the limit: said at the next try
      return null;
    }
    await byName.delete(`${name}|${address}`);
    return found;
  };
  return {
    async isFirstNeeded(): Promise<boolean> {
      const [row] = await s.database.select<{ n: number | bigint }>('SELECT COUNT(*) AS n FROM operators');
      return Number(row?.n ?? 0) === 0;
    },
    /** A one-time ticket for the first operator; the caller shows it to whoever started the service, and nobody else. */
    async firstTicket(): Promise<string> {
      const ticket = base64url(s.ports.random.bytes(24));
      await s.tables.tickets.remove({ kind: 'first_operator' });
      await s.tables.tickets.insert({
        id: recordId(s.ports),
        kind: 'first_operator',
        hash: hashText(ticket),
        endsAt: s.ports.clock.now() + TICKET_MS,
        spentAt: null,
      });
      return ticket;
    },
    /** @throws {Fault} TICKET_SPENT */
    async addFirst(input: z.output<typeof FirstOperator>): Promise<{ done: true }> {
      const passwordHash = await hash(input.password);
      const spent = await s.database.write(
        "UPDATE tickets SET spent_at = UTC_TIMESTAMP(3) WHERE hash = $1 AND kind = 'first_operator' AND spent_at IS NULL AND ends_at > UTC_TIMESTAMP(3) AND NOT EXISTS (SELECT 1 FROM operators)",
        [hashText(input.ticket)],
      );
      if (spent === 0) throw new Fault('TICKET_SPENT', { remedy: 'Start the service again: it makes a new ticket while there is no operator.' });
      await s.tables.operators.insert({ id: recordId(s.ports), name: input.name, passwordHash, createdAt: s.ports.clock.now() });
      s.history.add({
        actor: input.name,
        kind: 'operator_added',
        subject: `operator:${input.name}`,
        says: 'Made the first operator with the one-time ticket.',
      });
      return { done: true };
    },
    /** @throws {Fault} SIGN_IN_WRONG, SIGN_IN_THROTTLED */
    async signIn(input: z.output<typeof SignIn>, address: string): Promise<{ token: string; operator: SignedInOperator }> {
      const found = await withPassword(input.name, input.password, address);
      if (!found) {
        s.history.add({ actor: 'anyone', kind: 'sign_in_failed', subject: `operator:${input.name}`, says: 'A sign-in failed.', data: { address } });
        throw new Fault('SIGN_IN_WRONG');
      }
      const token = base64url(s.ports.random.bytes(32));
      const now = s.ports.clock.now();
      const kind = input.keeps === 'token' ? 'program' : 'browser';
      const endsAt = now + (kind === 'program' ? PROGRAM_SESSION_MS : SESSION_MS);
      const sessionId = recordId(s.ports);
      await s.tables.sessions.insert({ id: sessionId, operatorId: found.id, hash: hashText(token), kind, createdAt: now, endsAt });
      await s.database.write('DELETE FROM sessions WHERE ends_at < UTC_TIMESTAMP(3) LIMIT 100');
      s.history.add({
        actor: found.name,
        kind: 'signed_in',
        subject: `operator:${found.name}`,
        says: `Signed in ${kind === 'program' ? 'with a program' : 'with a browser'}.`,
        data: { address },
      });
      return { token, operator: { name: found.name, sessionId, endsAt, kind } };
    },
    /** For what is asked for with one's own password although one is signed in. @throws {Fault} PASSWORD_WRONG, SIGN_IN_THROTTLED */
    async checkPassword(name: string, password: string, address: string): Promise<void> {
      if (!(await withPassword(name, password, address))) throw new Fault('PASSWORD_WRONG');
    },
    async check(token: string): Promise<SignedInOperator | null> {
      const session = await s.tables.sessions.find({ hash: hashText(token) });
      if (!session || session.endsAt <= s.ports.clock.now()) return null;
      const operator = await s.tables.operators.find({ id: session.operatorId });
      return operator ? { name: operator.name, sessionId: session.id, endsAt: session.endsAt, kind: session.kind } : null;
    },
    async signOut(operator: SignedInOperator): Promise<{ done: true }> {
      await s.tables.sessions.remove({ id: operator.sessionId });
      return { done: true };
    },
  };
}
export type Operators = ReturnType<typeof operators>;
