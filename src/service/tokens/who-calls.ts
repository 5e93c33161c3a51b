import { Fault } from '../../core/fault.ts';
import type { CallerCheck } from './caller-check.ts';
import type { KnownCaller } from './caller-directory.ts';
import { callerPair } from './oauth-form.ts';

/** The caller whose id and key stand in an Authorization header. @throws {Fault} CALLER_UNKNOWN, SIGN_IN_THROTTLED */
export type WhoCalls = (authorization: string | undefined, address: string) => Promise<{ caller: KnownCaller; keyId: string }>;

export const whoCalls =
  (check: CallerCheck): WhoCalls =>
  async (authorization, address) => {
    const pair = callerPair(authorization);
    if (!pair) throw new Fault('CALLER_UNKNOWN');
    const known = check.ready(pair.id, pair.key);
    if (known) return known;
    const checked = await check(pair.id, pair.key, address);
    if (!('wrong' in checked)) return checked;
    throw checked.wrong === 'throttled' ? new Fault('SIGN_IN_THROTTLED', { retryAfterMs: checked.waitMs }) : new Fault('CALLER_UNKNOWN');
  };
