import { Fault } from '../../core/fault.ts';
import type { Assertions } from './assertions.ts';
import type { CallerCheck } from './caller-check.ts';
import type { KnownCaller } from './caller-directory.ts';
import { callerPair } from './oauth-form.ts';

/** Who stands behind an Authorization header. @throws {Fault} CALLER_UNKNOWN, SIGN_IN_THROTTLED */
export interface WhoCalls {
  (authorization: string | undefined, address: string): Promise<{ caller: KnownCaller; keyId: string | null }>;
  /** The caller, where its id and key stand in the header and are known in memory; null: ask. */
  ready(authorization: string | undefined): { caller: KnownCaller; keyId: string } | null;
}

/** A signed JWT has three parts; a caller's ID and key are two. */
const BEARER_JWT = /^Bearer ([A-Za-z0-9_-]+\.[A-Za-z0-9_-]+\.[A-Za-z0-9_-]+)$/i;

export function whoCalls(check: CallerCheck, assertions: Pick<Assertions, 'ofJwt'>): WhoCalls {
  const ready: WhoCalls['ready'] = (authorization) => (authorization === undefined ? null : check.readyHeader(authorization));
  const ask = async (authorization: string | undefined, address: string) => {
    const jwt = BEARER_JWT.exec(authorization ?? '')?.[1];
    if (jwt !== undefined) {
      const found = await assertions.ofJwt(jwt, null);
      if ('wrong' in found) throw new Fault('CALLER_UNKNOWN', { detail: found.wrong });
      return { caller: found.caller, keyId: null };
    }
    const pair = callerPair(authorization);
    if (!pair) throw new Fault('CALLER_UNKNOWN');
    const checked = await check(pair.id, pair.key, address);
    if (!('wrong' in checked)) return checked;
    throw checked.wrong === 'throttled' ? new Fault('SIGN_IN_THROTTLED', { retryAfterMs: checked.waitMs }) : new Fault('CALLER_UNKNOWN');
  };
  return Object.assign(ask, { ready });
}
