import { accounts } from './accounts.ts';
import { confirmation } from './confirmation.ts';
import { noteBy } from './note.ts';
import { openedSessions } from './opened-sessions.ts';
import { ownAccount, ownFactors } from './own-account.ts';
import type { OperatorParts } from './parts.ts';
import { passwords } from './passwords.ts';
import { secondFactors } from './second-factors.ts';
import { signIns } from './sign-in.ts';

/** Operators, their sessions, second factors and personal tokens, and the one-time ticket that makes the first of them. */
export function operators(s: OperatorParts) {
  const uses = { guard: passwords(s), factors: secondFactors(s), note: noteBy(s) };
  const sessions = openedSessions(s, uses);
  const { checkFactor, ...confirming } = confirmation(s, uses);
  return {
    ...accounts(s, uses),
    ...sessions,
    ...confirming,
    ...signIns(s, { ...uses, openSession: sessions.openSession, checkFactor }),
    ...ownAccount(s, uses),
    ...ownFactors(uses),
  };
}
export type Operators = ReturnType<typeof operators>;
