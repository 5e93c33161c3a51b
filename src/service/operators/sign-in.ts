import type { z } from 'zod';
import type { FirstOperator, SecondStep, SignIn } from '../../api/operators.ts';
import { Fault } from '../../core/fault.ts';
import { base64url } from '../../core/identifiers.ts';
import { hashOf } from '../hash.ts';
import { recordId } from '../ports.ts';
import { newOperator } from './accounts.ts';
import { type Confirmation, SECOND_STEP_MS } from './confirmation.ts';
import type { Note } from './note.ts';
import type { From, NewSession, OpenedSessions } from './opened-sessions.ts';
import type { OperatorParts } from './parts.ts';
import type { Passwords } from './passwords.ts';
import type { SecondFactors } from './second-factors.ts';

const TICKET_MS = 24 * 3_600_000;
const MAX_TRIES = 5;

interface Uses {
  guard: Passwords;
  factors: SecondFactors;
  note: Note;
  openSession: OpenedSessions['openSession'];
  checkFactor: Confirmation['checkFactor'];
}

/** Sign-in with a password and a second factor, and the one-time ticket that makes the first operator. */
export function signIns(s: OperatorParts, { guard, factors, note, openSession, checkFactor }: Uses) {
  const { clock, random } = s.ports;
  return {
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
      if ((await s.store.operators.countTry(ticket.id)) > MAX_TRIES) throw again();
      await checkFactor(row, { ...from, device: input.device ?? from.device }, input, async (challenge) => challenge === ticket.hash.toString('base64url'));
      if (!(await s.store.operators.useUpTicket(ticket.id))) throw again();
      return openSession(row, ticket.data?.keeps === 'token' ? 'token' : 'cookie', from);
    },
  };
}
