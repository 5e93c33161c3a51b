import { LRUCache } from 'lru-cache';
import type { z } from 'zod';
import type {
  Account,
  AddPersonalToken,
  ChangePassword,
  ConfirmationAsked,
  ConfirmIdentity,
  EndedSessions,
  FirstOperator,
  SecondStep,
  SignIn,
} from '../../api/operators.ts';
import { atLeast, type Role } from '../../api/roles.ts';
import { Fault } from '../../core/fault.ts';
import { base64url } from '../../core/identifiers.ts';
import { CONFIRMED_MS, type SignedInOperator } from '../asked.ts';
import { hashOf } from '../hash.ts';
import { iso, isoOrNull } from '../iso.ts';
import { recordId } from '../ports.ts';
import type { OperatorRow } from '../store/operators.ts';
import type { SessionRow } from '../store/sessions.ts';
import { accounts, newOperator } from './accounts.ts';
import type { OperatorParts } from './parts.ts';
import { passwords } from './passwords.ts';
import { secondFactors, whyNoPasskeys } from './second-factors.ts';
import { sessionView } from './views.ts';

const SESSION_MS = 12 * 3_600_000;
const PROGRAM_SESSION_MS = 30 * 86_400_000;
const TICKET_MS = 24 * 3_600_000;
const SECOND_STEP_MS = 5 * 60_000;
const TRIES_MOST = 5;
const TOKENS_MOST = 50;
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
type Keeps = z.output<typeof SignIn>['keeps'];

/** Operators, their sessions, second factors and personal tokens, and the one-time ticket that makes the first of them. */
export function operators(s: OperatorParts) {
  const guard = passwords(s);
  const factors = secondFactors(s);
  const { clock, random } = s.ports;
  const used = new LRUCache<string, number>({ max: USED_KEPT });
  const note = (operator: { name: string }, kind: string, says: string, data?: Record<string, unknown>): void =>
    s.history.add({ actor: operator.name, kind, subject: `operator:${operator.name}`, says, ...(data ? { data } : {}) });

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
  const endOthers = async (operator: SignedInOperator): Promise<{ ended: number }> => {
    const ended = await s.store.sessions.endOthers(operator.id, operator.sessionId);
    if (ended > 0) note(operator, 'sessions_ended', `Ended ${ended === 1 ? 'one other session' : `${ended} other sessions`}.`);
    return { ended };
  };
  /** A passkey's challenge that was issued for this operator, and is used up by this. */
  const isOwnChallenge = (operatorId: string) => async (challenge: string) => {
    const ticket = await s.store.operators.ticket('identity', hashOf(challenge));
    return ticket?.operatorId === operatorId && (await s.store.operators.useUpTicket(ticket.id));
  };
  const checkFactor = async (operatorId: string, proof: Parameters<typeof factors.isGood>[1], isChallenge: Parameters<typeof factors.isGood>[2]) => {
    guard.enterCode(operatorId);
    if (!(await factors.isGood(operatorId, proof, isChallenge))) throw new Fault('SECOND_FACTOR_WRONG');
    guard.forgiveCode(operatorId);
  };

  return {
    ...accounts(s, { factors, guard }),
    isFirstNeeded: async (): Promise<boolean> => !(await s.store.operators.any()),
    /** A one-time ticket for the first operator; the caller shows it to whoever started the service, and nobody else. */
    async firstTicket(): Promise<string> {
      const ticket = base64url(random.bytes(24));
      await s.store.operators.replaceTicket({
        ...{ id: recordId(s.ports), kind: 'first_operator', hash: hashOf(ticket), endsAt: clock.now() + TICKET_MS },
        ...{ spentAt: null, operatorId: null, data: null, tries: 0 },
      });
      return ticket;
    },
    /** The ticket is looked at before anything is hashed. @throws {Fault} TICKET_SPENT, SIGN_IN_THROTTLED */
    async addFirst(input: z.output<typeof FirstOperator>, address: string): Promise<{ done: true }> {
      guard.enterNetwork(address);
      const spent = () => new Fault('TICKET_SPENT', { remedy: 'Start the service again: it makes a new ticket while there is no operator.' });
      if (!(await s.store.operators.isTicketGood(hashOf(input.ticket)))) throw spent();
      const passwordHash = await s.hashing.hash(input.password);
      if (!(await s.store.operators.spendTicket(hashOf(input.ticket)))) throw spent();
      const row = newOperator(s, { name: input.name, role: 'administrator', limits: [] });
      await s.store.operators.add({ ...row, state: 'active', passwordHash });
      note(input, 'operator_added', 'Made the first operator with the one-time ticket.');
      return { done: true };
    },
    /** @throws {Fault} SIGN_IN_WRONG, SIGN_IN_THROTTLED, SECOND_FACTOR_NEEDED with what it needs */
    async signIn(input: z.output<typeof SignIn>, from: From): Promise<NewSession> {
      const row = await guard.operatorWith(input.name, input.password, from.address, input.device ?? from.device);
      if (!row) {
        guard.noteFailure(from.address);
        throw new Fault('SIGN_IN_WRONG');
      }
      const methods = await factors.methods(row.id);
      if (methods.length === 0) return openSession(row, input.keeps, from);
      const ticket = factors.challenge();
      await s.store.operators.addTicket({
        ...{ id: recordId(s.ports), kind: 'second_step', hash: hashOf(ticket), endsAt: clock.now() + SECOND_STEP_MS },
        ...{ spentAt: null, operatorId: row.id, data: { keeps: input.keeps }, tries: 0 },
      });
      // The passkey signs the hash of the ticket: whoever has only its answer cannot go on.
      const options = await factors.passkeyOptions(row.id, hashOf(ticket).toString('base64url'));
      throw new Fault('SECOND_FACTOR_NEEDED', { secondFactor: { ticket, methods, passkey_options: options } });
    },
    /** @throws {Fault} TICKET_SPENT, SECOND_FACTOR_WRONG, SIGN_IN_THROTTLED */
    async finishSignIn(input: z.output<typeof SecondStep>, from: From): Promise<NewSession> {
      const ticket = await s.store.operators.ticket('second_step', hashOf(input.ticket));
      const row = ticket?.operatorId ? await s.store.operators.byId(ticket.operatorId) : null;
      const again = () => new Fault('TICKET_SPENT', { detail: 'The sign-in took too long, or too many codes were wrong.', remedy: 'Sign in again.' });
      if (!ticket || row?.state !== 'active') throw again();
      if ((await s.store.operators.countTry(ticket.id)) > TRIES_MOST) throw again();
      await checkFactor(row.id, input, async (challenge) => challenge === ticket.hash.toString('base64url'));
      if (!(await s.store.operators.useUpTicket(ticket.id))) throw again();
      return openSession(row, ticket.data?.keeps === 'token' ? 'token' : 'cookie', from);
    },
    openSession,
    /** For what is requested with one's own password although one is signed in. @throws {Fault} PASSWORD_WRONG, SIGN_IN_THROTTLED */
    async checkPassword(name: string, password: string, address: string): Promise<void> {
      if (!(await guard.operatorWith(name, password, address))) throw new Fault('PASSWORD_WRONG');
    },
    async startConfirmation(operator: SignedInOperator): Promise<ConfirmationAsked> {
      const [row, methods] = await Promise.all([s.store.operators.byId(operator.id), factors.methods(operator.id)]);
      const challenge = factors.challenge();
      if (methods.includes('passkey'))
        await s.store.operators.addTicket({
          ...{ id: recordId(s.ports), kind: 'identity', hash: hashOf(challenge), endsAt: clock.now() + SECOND_STEP_MS },
          ...{ spentAt: null, operatorId: operator.id, data: null, tries: 0 },
        });
      return { password: row !== null && row.passwordHash !== '', methods, passkey_options: await factors.passkeyOptions(operator.id, challenge) };
    },
    /** @throws {Fault} PASSWORD_WRONG, SECOND_FACTOR_WRONG, SIGN_IN_THROTTLED, CONFIRMATION_NEEDED for a personal token */
    async confirm(operator: SignedInOperator, input: z.output<typeof ConfirmIdentity>, from: From): Promise<{ until: string }> {
      if (operator.kind === 'token') throw confirmationNeeded(operator);
      const row = await s.store.operators.byId(operator.id);
      const methods = await factors.methods(operator.id);
      const hasPassword = row !== null && row.passwordHash !== '';
      if (!hasPassword && methods.length === 0)
        throw new Fault('CONFIRMATION_NEEDED', { detail: 'This account has neither a password nor a second factor.', remedy: 'Sign out and in again.' });
      if (hasPassword && !(await guard.operatorWith(operator.name, input.password ?? '', from.address, from.device))) throw new Fault('PASSWORD_WRONG');
      if (methods.length > 0) await checkFactor(operator.id, input, isOwnChallenge(operator.id));
      const now = clock.now();
      await s.store.sessions.confirm(operator.sessionId, now);
      return { until: iso(now + CONFIRMED_MS) };
    },
    /** Before a sensitive action. @throws {Fault} CONFIRMATION_NEEDED */
    needConfirmed(operator: SignedInOperator): void {
      if (operator.kind === 'token' || operator.confirmedAt === null || clock.now() - operator.confirmedAt > CONFIRMED_MS) throw confirmationNeeded(operator);
    },
    /** Who holds this session or personal token; null: nobody who may sign in. */
    async check(token: string, address: string): Promise<SignedInOperator | null> {
      const session = await s.store.sessions.byHash(hashOf(token));
      if (!session || session.endsAt <= clock.now()) return null;
      const row = await s.store.operators.byId(session.operatorId);
      if (row?.state !== 'active') return null;
      noteUse(session, address);
      return signedIn(row, session);
    },
    async account(operator: SignedInOperator): Promise<Account> {
      const [row, rows, sessions, codes] = await Promise.all([
        s.store.operators.byId(operator.id),
        factors.verified(operator.id),
        s.store.sessions.ofOperator(operator.id),
        factors.codesLeft(operator.id),
      ]);
      const why = whyNoPasskeys(s.publicUrl);
      const until = operator.confirmedAt === null ? null : operator.confirmedAt + CONFIRMED_MS;
      return {
        ...{ operator: operator.name, role: operator.role, labels: [...operator.labels], has_password: row?.passwordHash !== '' },
        second_factors: rows.map((one) => ({
          ...{ id: one.id, kind: one.kind, name: one.name, created_at: iso(one.createdAt), last_used_at: isoOrNull(one.lastUsedAt) },
        })),
        recovery_codes: codes,
        passkeys: { possible: why === null, why },
        confirmed_until: until !== null && until > clock.now() ? iso(until) : null,
        sessions: sessions.map((one) => sessionView(one, operator.sessionId)),
      };
    },
    /** One's own, with the present one; every other session ends. @throws {Fault} PASSWORD_WRONG, SIGN_IN_THROTTLED */
    async changePassword(operator: SignedInOperator, input: z.output<typeof ChangePassword>, address: string): Promise<z.output<typeof EndedSessions>> {
      const found = await guard.operatorWith(operator.name, input.current, address);
      if (!found) throw new Fault('PASSWORD_WRONG');
      await s.store.operators.changePassword(found.id, await s.hashing.hash(input.password));
      note(operator, 'password_changed', 'Changed their password.');
      return endOthers(operator);
    },
    endOtherSessions: endOthers,
    async signOut(operator: SignedInOperator): Promise<{ done: true }> {
      await s.store.sessions.end(operator.sessionId);
      return { done: true };
    },
    /** @throws {Fault} NOT_FOUND */
    async endOwnSession(operator: SignedInOperator, sessionId: string): Promise<{ done: true }> {
      const all = await s.store.sessions.ofOperator(operator.id);
      const session = all.find((one) => one.id === sessionId);
      if (!session) throw new Fault('NOT_FOUND', { detail: 'This session has ended.' });
      await s.store.sessions.endOf(operator.id, sessionId);
      note(operator, 'sessions_ended', session.kind === 'token' ? `Revoked the personal token ${session.name ?? ''}.` : 'Ended one of their sessions.');
      return { done: true };
    },
    /** @throws {Fault} INPUT_INVALID */
    async addToken(operator: SignedInOperator, input: z.output<typeof AddPersonalToken>, from: From) {
      if (!atLeast(operator.role, input.role))
        throw new Fault('INPUT_INVALID', { places: [{ path: 'role', why: `Your own role is ${operator.role}: a token can do no more.` }] });
      const tokens = (await s.store.sessions.ofOperator(operator.id)).filter((one) => one.kind === 'token');
      if (tokens.length >= TOKENS_MOST) throw new Fault('INPUT_INVALID', { detail: `You have ${TOKENS_MOST} personal tokens.`, remedy: 'Revoke one first.' });
      if (tokens.some((one) => one.name === input.name)) throw new Fault('NAME_TAKEN', { detail: `You have a personal token "${input.name}".` });
      const token = `rkp_${base64url(random.bytes(32))}`;
      const now = clock.now();
      const row: SessionRow = {
        ...{ id: recordId(s.ports), operatorId: operator.id, hash: hashOf(token), kind: 'token', createdAt: now, endsAt: now + input.days * 86_400_000 },
        ...{ name: input.name, role: input.role, confirmedAt: null, lastUsedAt: null, address: null, agent: from.agent?.slice(0, 200) ?? null },
        identitySession: null,
      };
      await s.store.sessions.add(row);
      note(operator, 'personal_token_added', `Added the personal token ${input.name} (${input.role}), for ${input.days} days.`);
      return { id: row.id, token, ends_at: iso(row.endsAt) };
    },
    startAuthenticator: (operator: SignedInOperator, name: string) => factors.startAuthenticator(operator, name),
    startPasskey: (operator: SignedInOperator, name: string) => factors.startPasskey(operator, name),
    async finishFactor(operator: SignedInOperator, factorId: string, proof: Parameters<typeof factors.finish>[2]): Promise<{ recovery_codes: string[] }> {
      guard.enterCode(operator.id);
      const { row, codes } = await factors.finish(operator.id, factorId, proof);
      guard.forgiveCode(operator.id);
      note(operator, 'second_factor_added', `Set up the ${row.kind === 'passkey' ? 'passkey' : 'authenticator app'} ${row.name} as second factor.`);
      return { recovery_codes: codes };
    },
    async removeFactor(operator: SignedInOperator, factorId: string): Promise<{ done: true }> {
      await factors.remove(operator.id, factorId);
      note(operator, 'second_factor_removed', 'Removed a second factor.');
      return { done: true };
    },
    async renewRecoveryCodes(operator: SignedInOperator): Promise<{ recovery_codes: string[] }> {
      if ((await factors.methods(operator.id)).length === 0)
        throw new Fault('INPUT_INVALID', { detail: 'No second factor is set up.', remedy: 'Set up an authenticator app or a passkey first.' });
      const codes = await factors.newCodes(operator.id);
      note(operator, 'recovery_codes_renewed', 'Made new recovery codes.');
      return { recovery_codes: codes };
    },
  };
}
export type Operators = ReturnType<typeof operators>;

const lesser = (a: Role, b: Role): Role => (atLeast(a, b) ? b : a);

const confirmationNeeded = (operator: SignedInOperator): Fault =>
  operator.kind === 'token'
    ? new Fault('CONFIRMATION_NEEDED', {
        detail: 'A personal token cannot confirm who uses it.',
        remedy: 'Do this in the console, or with `rk` after `rk sign-in`.',
      })
    : new Fault('CONFIRMATION_NEEDED');
