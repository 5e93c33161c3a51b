import { setTimeout as sleep } from 'node:timers/promises';
import { Fault } from '../../core/fault.ts';
import type { RenewalCause } from '../../core/renewal/row.ts';
import type { Ports } from '../ports.ts';
import type { RenewalEngine } from '../renewal/engine.ts';
import { type CachedToken, hasEnoughLife, type TokenCache } from '../renewal/token-cache.ts';
import type { Sealer } from '../sealer.ts';
import type { HeldRow, RenewalStore } from '../store/renewals.ts';

/** An access token that is good for long enough. @throws {Fault} GRANT_REFUSED, CLIENT_STOPPED, PROVIDER_BUSY, RENEWAL_PENDING, DATABASE_AWAY */
export type Handout = (grantId: string, need?: TokenNeed) => Promise<CachedToken>;

export interface TokenNeed {
  /** More rest of life than the floor, in ms; at most half of the life is ever promised. */
  minimumLifeMs?: number;
  /** A generation that the API refused: only a newer token will do. */
  newerThan?: number;
}

const WAIT_MOST_MS = 10_000;
const LOOK_EVERY_MS = 100;
const RETRY_AFTER_MS = 2_000;
const NO_NEED: TokenNeed = {};

/**
 * Cached and long enough: answered without a database read. Else the row is read; else renewed, by us or by whoever was
 * first; else a reason. One waiter for each grant in this process, whoever asks.
 */
export function handout(deps: { store: RenewalStore; sealer: Sealer; cache: TokenCache; engine: RenewalEngine; ports: Pick<Ports, 'clock'> }): Handout {
  const { store, sealer, cache, engine, ports } = deps;
  const fetching = new Map<string, Promise<CachedToken>>();
  const isEnough = (token: Pick<CachedToken, 'issuedAt' | 'expiresAt' | 'generation'>, need: TokenNeed): boolean => {
    const now = ports.clock.now();
    const wishedMs = Math.min(need.minimumLifeMs ?? 0, (token.expiresAt - token.issuedAt) / 2);
    return hasEnoughLife(token, now) && token.expiresAt - now >= wishedMs && (need.newerThan === undefined || token.generation > need.newerThan);
  };
  const cached = (grantId: string, need: TokenNeed): CachedToken | undefined => {
    const token = cache.get(grantId);
    return token && isEnough(token, need) ? token : undefined;
  };
  const take = async (held: HeldRow): Promise<CachedToken> => {
    const access = await sealer.open({ table: 'tokens', row: held.grantId, column: 'access_sealed' }, held.accessSealed);
    const token = { access, issuedAt: held.row.issuedAt, expiresAt: held.row.expiresAt, generation: held.row.generation };
    cache.put(held.grantId, token);
    return token;
  };
  const fetch = async (grantId: string, need: TokenNeed): Promise<CachedToken> => {
    const first = await store.read(grantId);
    if (!first || first.row.ended) throw new Fault('GRANT_REFUSED');
    if (isEnough(first.row, need)) return take(first);
    if (first.row.nextAt === null) throw refusal(first.row.cause);
    let tooOld = first.row.generation;
    for (const endsAt = Date.now() + WAIT_MOST_MS; Date.now() < endsAt; await sleep(LOOK_EVERY_MS)) {
      const { givenBack } = await engine.renewOne(grantId, tooOld);
      const fresh = cached(grantId, need); // also an answer that still waits in memory for the database
      if (fresh) return fresh;
      const held = await store.read(grantId);
      if (!held || held.row.ended) throw new Fault('GRANT_REFUSED');
      if (isEnough(held.row, need)) return take(held);
      tooOld = held.row.generation;
      if (givenBack?.cause === 'held') throw new Fault('INSTALLATION_HELD', { retryAfterMs: givenBack.waitMs });
      if (givenBack?.cause) throw refusal(givenBack.cause, givenBack.waitMs);
      if (held.row.nextAt === null || (held.row.failures > 0 && held.row.leaseUntil === null))
        throw refusal(held.row.cause, Math.max((held.row.nextAt ?? 0) - ports.clock.now(), RETRY_AFTER_MS));
    }
    throw new Fault('RENEWAL_PENDING', { retryAfterMs: RETRY_AFTER_MS });
  };
  return async (grantId, need = NO_NEED) => {
    const ready = cached(grantId, need);
    if (ready) return ready;
    const key = need === NO_NEED ? grantId : `${grantId} ${need.minimumLifeMs} ${need.newerThan}`;
    let running = fetching.get(key);
    if (!running) {
      running = fetch(grantId, need).finally(() => fetching.delete(key));
      fetching.set(key, running);
    }
    return running;
  };
}

function refusal(cause: RenewalCause | null, retryAfterMs = RETRY_AFTER_MS): Fault {
  const wait = { retryAfterMs: Math.min(retryAfterMs, 3_600_000) };
  switch (cause) {
    case 'client_refused':
      return new Fault('CLIENT_STOPPED', wait);
    case 'busy':
      return new Fault('PROVIDER_BUSY', wait);
    case 'unsent':
    case 'unclear':
      return new Fault('RENEWAL_PENDING', { ...wait, detail: 'The provider cannot be reached or does not answer.' });
    case 'unconfirmed':
      return new Fault('CLIENT_STOPPED', { ...wait, detail: 'New addresses of the provider are not confirmed yet.' });
    case 'no_refresh_token':
      return new Fault('GRANT_REFUSED', { detail: 'Its access token ran out and there is no refresh token.' });
    case 'set_up':
    case 'seal_broken':
      return new Fault('GRANT_REFUSED', { detail: cause === 'set_up' ? 'The provider does not understand the renewal.' : 'Its sealed tokens do not open.' });
    default:
      return new Fault('GRANT_REFUSED', retryAfterMs > RETRY_AFTER_MS && cause === 'refused' ? wait : {});
  }
}
