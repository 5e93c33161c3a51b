import { z } from 'zod';
import { Instant, OperatorName } from './common.ts';

export const Password = z.string().min(10, { error: 'At least 10 characters.' }).max(200);

export const FirstOperator = z.strictObject({ ticket: z.string().min(20).max(200), name: OperatorName, password: Password });
export const SignIn = z.strictObject({
  name: OperatorName,
  password: z.string().max(200),
  keeps: z.enum(['cookie', 'token']).default('cookie'),
  device: z.string().max(400).optional().describe('Of a program that signed in before: the one that came with its token'),
});
export const ChangePassword = z.strictObject({ current: z.string().min(1).max(200), password: Password });
export const EndedSessions = z.object({ ended: z.number().int() });
export const Session = z.object({ operator: z.string(), ends_at: Instant, installation: z.object({ public_url: z.string(), version: z.string() }) });
export type Session = z.output<typeof Session>;
/** With `keeps: token` the token comes once, for a program that stores it itself. */
export const SignedIn = Session.extend({ token: z.string().optional(), device: z.string().optional() });
export const FirstOperatorState = z.object({ needed: z.boolean() });
