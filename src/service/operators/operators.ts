import { setTimeout as sleep } from 'node:timers/promises';
import type { z } from 'zod';
import type { ChangePassword, EndedSessions, FirstOperator, SignIn } from '../../api/operators.ts';
import { Fault } from '../../core/fault.ts';
import { base64url } from '../../core/identifiers.ts';
import { Secret } from '../../core/secret.ts';
import type { SignedInOperator } from '../asked.ts';
import { hashOf } from '../hash.ts';
import { recordId } from '../ports.ts';
import { networkOf, slowDown } from '../slow-down.ts';
import type { OperatorParts } from './parts.ts';

const SESSION_MS = 12 * 3_600_000;
const PROGRAM_SESSION_MS = 30 * 86_400_000;
const TICKET_MS = 24 * 3_600_000;
/** By name and network: five tries are free, then each costs a wait of twice the one before. Never by name alone: strangers could lock people out. */
const BY_NAME = { free: 5, firstWaitMs: 1_000, mostWaitMs: 60_000, forgottenMs: 900_000 };
const BY_NETWORK = { free: 30, firstWaitMs: 1_000, mostWaitMs: 60_000, forgottenMs: 900_000 };
/** Tries for one name from everywhere: not rejected, only slowed. */
const BY_NAME_ALONE = { free: 20, firstWaitMs: 0, mostWaitMs: 0, forgottenMs: 900_000 };
const SLOWED_MOST_MS = 2_000;
const SLOWED_AT_ONCE = 50;
const NOTED_EVERY_MS = 600_000;
const DEVICE_PLACE = (name: string) => ({ table: 'operators', row: name, column: 'device' });

/** Operators, their sessions, and the one-time ticket that makes the first of them. */
export function operators(s: OperatorParts) {
  const [byName, byNetwork, byNameAlone] = [slowDown(BY_NAME), slowDown(BY_NETWORK), slowDown(BY_NAME_ALONE)];
  let slowed = 0;
  // Verified when the name is unknown, so that both answers take as long. Made once it is needed.
  let decoy: Promise<string> | null = null;
  /** What strangers do is counted, not stored: one line for many. */
  const noise = { failed: 0, networks: new Set<string>(), notedAt: Number.NEGATIVE_INFINITY };
  const noteFailure = (network: string): void => {
    noise.failed += 1;
    if (noise.networks.size < 1_000) noise.networks.add(network);
    if (performance.now() - noise.notedAt < NOTED_EVERY_MS) return;
    const from = noise.networks.size === 1 ? 'one network' : `${noise.networks.size} networks`;
    s.history.add({
      actor: 'anyone',
      kind: 'sign_in_failed',
      subject: 'operators',
      says: `${noise.failed === 1 ? 'A sign-in' : `${noise.failed} sign-ins`} failed, from ${from}.`,
    });
    Object.assign(noise, { failed: 0, networks: new Set(), notedAt: performance.now() });
  };
  /** A browser or program that signed in as this operator before: strangers' failures do not slow it down. */
  const isKnownDevice = async (name: string, device: string | undefined): Promise<boolean> => {
    if (device === undefined || device.length > 400) return false;
    try {
      await s.sealer.open(DEVICE_PLACE(name), Buffer.from(device, 'base64url'));
      return true;
    } catch {
      return false; // another operator's, or made up
    }
  };
  const newDevice = (name: string): string => s.sealer.seal(DEVICE_PLACE(name), new Secret(base64url(s.ports.random.bytes(12)))).toString('base64url');

  /** The operator whose password this is, or null. A try counts before it is verified. @throws {Fault} SIGN_IN_THROTTLED */
  const withPassword = async (name: string, password: string, address: string, device?: string) => {
    const network = networkOf(address);
    const known = await isKnownDevice(name, device);
    const keys = known ? [[byName, `${name}|${device}`] as const] : [[byName, `${name}|${network}`] as const, [byNetwork, network] as const];
    const waitMs = Math.max(...keys.map(([limit, key]) => limit.enter(key)));
    if (waitMs > 0) throw new Fault('SIGN_IN_THROTTLED', { retryAfterMs: waitMs });
    if (!known) await slowedBy(name);
    const found = await s.store.operators.byName(name);
    decoy ??= s.hashing.hash('nobody has this password');
    const good = await s.hashing.verify(found?.passwordHash ?? (await decoy), password, known);
    if (!found || !good) return null;
    for (const [limit, key] of keys) limit.forgive(key);
    byNameAlone.forgive(name);
    return found;
  };
  const slowedBy = async (name: string): Promise<void> => {
    byNameAlone.enter(name);
    const over = byNameAlone.failures(name) - BY_NAME_ALONE.free;
    if (over <= 0) return;
    if (slowed >= SLOWED_AT_ONCE) throw new Fault('SIGN_IN_THROTTLED', { retryAfterMs: SLOWED_MOST_MS });
    slowed += 1;
    try {
      await sleep(Math.min(SLOWED_MOST_MS, over * 50));
    } finally {
      slowed -= 1;
    }
  };
  const endOthers = async (operator: SignedInOperator, operatorId: string): Promise<{ ended: number }> => {
    const ended = await s.store.operators.endOtherSessions(operatorId, operator.sessionId);
    if (ended > 0)
      s.history.add({
        actor: operator.name,
        kind: 'sessions_ended',
        subject: `operator:${operator.name}`,
        says: `Ended ${ended === 1 ? 'one other session' : `${ended} other sessions`}.`,
      });
    return { ended };
  };
  return {
    isFirstNeeded: async (): Promise<boolean> => !(await s.store.operators.any()),
    /** A one-time ticket for the first operator; the caller shows it to whoever started the service, and nobody else. */
    async firstTicket(): Promise<string> {
      const ticket = base64url(s.ports.random.bytes(24));
      await s.store.operators.replaceTicket({
        id: recordId(s.ports),
        kind: 'first_operator',
        hash: hashOf(ticket),
        endsAt: s.ports.clock.now() + TICKET_MS,
        spentAt: null,
      });
      return ticket;
    },
    /** The ticket is looked at before anything is hashed. @throws {Fault} TICKET_SPENT, SIGN_IN_THROTTLED */
    async addFirst(input: z.output<typeof FirstOperator>, address: string): Promise<{ done: true }> {
      const waitMs = byNetwork.enter(networkOf(address));
      if (waitMs > 0) throw new Fault('SIGN_IN_THROTTLED', { retryAfterMs: waitMs });
      const spent = () => new Fault('TICKET_SPENT', { remedy: 'Start the service again: it makes a new ticket while there is no operator.' });
      if (!(await s.store.operators.isTicketGood(hashOf(input.ticket)))) throw spent();
      const passwordHash = await s.hashing.hash(input.password);
      if (!(await s.store.operators.spendTicket(hashOf(input.ticket)))) throw spent();
      await s.store.operators.add({ id: recordId(s.ports), name: input.name, passwordHash, createdAt: s.ports.clock.now() });
      s.history.add({
        actor: input.name,
        kind: 'operator_added',
        subject: `operator:${input.name}`,
        says: 'Made the first operator with the one-time ticket.',
      });
      return { done: true };
    },
    /** @throws {Fault} SIGN_IN_WRONG, SIGN_IN_THROTTLED */
    async signIn(input: z.output<typeof SignIn>, address: string, device?: string): Promise<{ token: string; operator: SignedInOperator; device: string }> {
      const found = await withPassword(input.name, input.password, address, device);
      if (!found) {
        noteFailure(networkOf(address));
        throw new Fault('SIGN_IN_WRONG');
      }
      const token = base64url(s.ports.random.bytes(32));
      const now = s.ports.clock.now();
      const kind = input.keeps === 'token' ? 'program' : 'browser';
      const endsAt = now + (kind === 'program' ? PROGRAM_SESSION_MS : SESSION_MS);
      const sessionId = recordId(s.ports);
      await s.store.operators.addSession({ id: sessionId, operatorId: found.id, hash: hashOf(token), kind, createdAt: now, endsAt });
      s.history.add({
        actor: found.name,
        kind: 'signed_in',
        subject: `operator:${found.name}`,
        says: `Signed in ${kind === 'program' ? 'with a program' : 'with a browser'}.`,
        data: { address },
      });
      return { token, operator: { name: found.name, sessionId, endsAt, kind }, device: newDevice(found.name) };
    },
    /** For what is requested with one's own password although one is signed in. @throws {Fault} PASSWORD_WRONG, SIGN_IN_THROTTLED */
    async checkPassword(name: string, password: string, address: string): Promise<void> {
      if (!(await withPassword(name, password, address))) throw new Fault('PASSWORD_WRONG');
    },
    async check(token: string): Promise<SignedInOperator | null> {
      const session = await s.store.operators.session(hashOf(token));
      if (!session || session.endsAt <= s.ports.clock.now()) return null;
      const operator = await s.store.operators.byId(session.operatorId);
      return operator ? { name: operator.name, sessionId: session.id, endsAt: session.endsAt, kind: session.kind } : null;
    },
    /** One's own, with the present one; every other session ends. @throws {Fault} PASSWORD_WRONG, SIGN_IN_THROTTLED */
    async changePassword(operator: SignedInOperator, input: z.output<typeof ChangePassword>, address: string): Promise<z.output<typeof EndedSessions>> {
      const found = await withPassword(operator.name, input.current, address);
      if (!found) throw new Fault('PASSWORD_WRONG');
      await s.store.operators.changePassword(found.id, await s.hashing.hash(input.password));
      s.history.add({ actor: operator.name, kind: 'password_changed', subject: `operator:${operator.name}`, says: 'Changed their password.' });
      return endOthers(operator, found.id);
    },
    async endOtherSessions(operator: SignedInOperator): Promise<z.output<typeof EndedSessions>> {
      const found = await s.store.operators.byName(operator.name);
      return found ? endOthers(operator, found.id) : { ended: 0 };
    },
    async signOut(operator: SignedInOperator): Promise<{ done: true }> {
      await s.store.operators.endSession(operator.sessionId);
      return { done: true };
    },
  };
}
export type Operators = ReturnType<typeof operators>;
