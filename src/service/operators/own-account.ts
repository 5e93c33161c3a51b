import type { z } from 'zod';
import type { Account, AddPersonalToken, ChangePassword, EndedSessions } from '../../api/operators.ts';
import { atLeast } from '../../api/roles.ts';
import { Fault } from '../../core/fault.ts';
import { base64url } from '../../core/identifiers.ts';
import { hashOf } from '../hash.ts';
import { iso, isoOrNull } from '../iso.ts';
import { CONFIRMED_MS, type SignedInOperator } from '../operation-call.ts';
import { recordId } from '../ports.ts';
import type { SessionRow } from '../store/sessions.ts';
import type { Note } from './note.ts';
import type { From } from './opened-sessions.ts';
import type { OperatorParts } from './parts.ts';
import type { Passwords } from './passwords.ts';
import { type SecondFactors, whyNoPasskeys } from './second-factors.ts';
import { sessionView } from './views.ts';

const MAX_TOKENS = 50;

interface Uses {
  guard: Passwords;
  factors: SecondFactors;
  note: Note;
}

/** What operators do with their own account: password, sessions, personal tokens, second factors. */
export function ownAccount(s: OperatorParts, { guard, factors, note }: Uses) {
  const { clock, random } = s.ports;
  const endOthers = async (operator: SignedInOperator): Promise<{ ended: number }> => {
    const ended = await s.store.sessions.endOthers(operator.id, operator.sessionId);
    if (ended > 0) note(operator, 'sessions_ended', `Ended ${ended === 1 ? 'one other session' : `${ended} other sessions`}.`);
    return { ended };
  };
  return {
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
      if (tokens.length >= MAX_TOKENS) throw new Fault('INPUT_INVALID', { detail: `You have ${MAX_TOKENS} personal tokens.`, remedy: 'Revoke one first.' });
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
  };
}

/** Second factors and recovery codes of one’s own account. */
export function ownFactors({ guard, factors, note }: Uses) {
  return {
    startAuthenticator: (operator: SignedInOperator, name: string) => factors.startAuthenticator(operator, name),
    startPasskey: (operator: SignedInOperator, name: string) => factors.startPasskey(operator, name),
    async finishFactor(operator: SignedInOperator, factorId: string, proof: Parameters<typeof factors.finish>[2]): Promise<{ recovery_codes: string[] }> {
      const forgive = await guard.enterCode(operator, { address: '', sessionId: operator.sessionId }, false);
      const { row, codes } = await factors.finish(operator.id, factorId, proof);
      forgive();
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
