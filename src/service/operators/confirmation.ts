import type { z } from 'zod';
import type { ConfirmationAsked, ConfirmIdentity } from '../../api/operators.ts';
import { Fault } from '../../core/fault.ts';
import { hashOf } from '../hash.ts';
import { iso } from '../iso.ts';
import { CONFIRMED_MS, type SignedInOperator } from '../operation-call.ts';
import { recordId } from '../ports.ts';
import type { From } from './opened-sessions.ts';
import type { OperatorParts } from './parts.ts';
import type { CodeFrom, Passwords } from './passwords.ts';
import type { SecondFactors } from './second-factors.ts';

export const SECOND_STEP_MS = 5 * 60_000;

/** Whoever is signed in confirms once more who they are, before a sensitive action. */
export function confirmation(s: OperatorParts, { guard, factors }: { guard: Passwords; factors: SecondFactors }) {
  const { clock } = s.ports;
  /** A passkey's challenge that was issued for this operator, and is used up by this. */
  const isOwnChallenge = (operatorId: string) => async (challenge: string) => {
    const ticket = await s.store.operators.ticket('identity', hashOf(challenge));
    return ticket?.operatorId === operatorId && (await s.store.operators.useUpTicket(ticket.id));
  };
  const checkFactor = async (
    operator: { id: string; name: string },
    from: CodeFrom,
    proof: Parameters<typeof factors.isGood>[1],
    isChallenge: Parameters<typeof factors.isGood>[2],
  ) => {
    const forgive = await guard.enterCode(operator, from, proof.code !== undefined && !/^\d{6}$/.test(proof.code));
    if (!(await factors.isGood(operator.id, proof, isChallenge))) throw new Fault('SECOND_FACTOR_WRONG');
    forgive();
  };

  return {
    checkFactor,
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
      if (methods.length > 0) await checkFactor(operator, { ...from, sessionId: operator.sessionId }, input, isOwnChallenge(operator.id));
      const now = clock.now();
      await s.store.sessions.confirm(operator.sessionId, now);
      return { until: iso(now + CONFIRMED_MS) };
    },
    /** Before a sensitive action. @throws {Fault} CONFIRMATION_NEEDED */
    needConfirmed(operator: SignedInOperator): void {
      if (operator.kind === 'token' || operator.confirmedAt === null || clock.now() - operator.confirmedAt > CONFIRMED_MS) throw confirmationNeeded(operator);
    },
  };
}
export type Confirmation = ReturnType<typeof confirmation>;

const confirmationNeeded = (operator: SignedInOperator): Fault =>
  operator.kind === 'token'
    ? new Fault('CONFIRMATION_NEEDED', {
        detail: 'A personal token cannot confirm who uses it.',
        remedy: 'Do this in the console, or with `rk` after `rk sign-in`.',
      })
    : new Fault('CONFIRMATION_NEEDED');
