import { attempts } from '../../api/attempts.ts';
import { Fault } from '../../core/fault.ts';
import { endsByRenewalAt, issuanceFloorMs } from '../../core/renewal/plan.ts';
import type { RenewalCause } from '../../core/renewal/row.ts';
import type { Ports } from '../ports.ts';
import { type CachedToken, hasEnoughLife, type RenewalEngine, type TokenCache } from '../renewal/index.ts';
import type { Sealer } from '../sealer.ts';
import type { HeldRow } from '../store/held-row.ts';
import type { RenewalStore } from '../store/renewals.ts';

/** An access token that is good for long enough. @throws {Fault} GRANT_REFUSED, CLIENT_STOPPED, PROVIDER_BUSY, RENEWAL_PENDING, DATABASE_UNAVAILABLE */
export interface Issuance {
  (grantId: string, need?: TokenNeed): Promise<CachedToken>;
  /** The token in memory, where it is good for long enough as it is; null: ask for it. */
  ready(grantId: string): CachedToken | null;
}

export interface TokenNeed {
  /** More remaining lifetime than the floor, in ms; at most half of the lifetime is ever promised. */
  minimumLifeMs?: number;
  /** A generation that the API rejected: only a newer token will do. */
  newerThan?: number;
  /** The dialect states that a renewal ends the token: it is good until it is due, and `expiresAt` of the answer shows it. */
  endsByRenewal?: boolean;
}

const MAX_WAIT_MS = 10_000;
const LOOK_EVERY_MS = 100;
const RETRY_AFTER_MS = 2_000;
const NO_NEED: TokenNeed = {};
/** A token that a renewal ends is issued while at least so much of it is left, or a tenth of its lifetime where that is less. */
const ENDING_LEAST_MS = 2_000;

/**
 * Cached and long enough: answered without a database read. Else the row is read; else renewed, by us or by whoever was
 * first; else a reason. One waiter for each grant in this process, whoever asks.
 */
export function issuance(deps: { store: RenewalStore; sealer: Sealer; cache: TokenCache; engine: RenewalEngine; ports: Pick<Ports, 'clock'> }): Issuance {
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
    let [tooOld, isUncertain] = [first.row.generation, false];
    for await (const _ of attempts({ withinMs: MAX_WAIT_MS, everyMs: LOOK_EVERY_MS })) {
      const { givenBack } = await engine.renewOne(grantId, tooOld);
      const fresh = cached(grantId, need); // also an answer that still waits in memory for the database
      if (fresh) return fresh;
      const held = await store.read(grantId);
      if (!held || held.row.ended) throw new Fault('GRANT_REFUSED');
      if (isEnough(held.row, need)) return take(held);
      tooOld = held.row.generation;
      if (givenBack?.cause === 'held') throw new Fault('INSTALLATION_HELD', { retryAfterMs: givenBack.waitMs });
      if (givenBack?.cause) throw refusal(givenBack.cause, givenBack.waitMs, true);
      if (held.row.nextAt === null || (held.row.failures > 0 && held.row.leaseUntil === null))
        throw refusal(held.row.cause, Math.max((held.row.nextAt ?? 0) - ports.clock.now(), RETRY_AFTER_MS), held.row.nextAt !== null);
      isUncertain = held.row.uncertainSince !== null;
    }
    throw new Fault('RENEWAL_PENDING', { retryAfterMs: RETRY_AFTER_MS, ...(isUncertain ? { detail: CHECKING } : {}) });
  };
  /**
   * Where a renewal ends the token, the row is read for each issued token: only it tells whether a renewal is under way, here or elsewhere. A
   * token is never renewed early for one caller, because another one holds it.
   */
  const fetchEnding = async (grantId: string, need: TokenNeed): Promise<CachedToken> => {
    for await (const _ of attempts({ withinMs: MAX_WAIT_MS, everyMs: LOOK_EVERY_MS })) {
      const held = await store.read(grantId);
      if (!held || held.row.ended) throw new Fault('GRANT_REFUSED');
      const unsaved = cache.get(grantId);
      if (unsaved && unsaved.generation > held.row.generation) return unsaved; // its answer still waits in memory for the database
      const now = ports.clock.now();
      const until = endsByRenewalAt(held.row, now);
      const isNewer = need.newerThan === undefined || held.row.generation > need.newerThan;
      if (isNewer && until - now >= Math.min(ENDING_LEAST_MS, issuanceFloorMs(held.row))) {
        if (until - now < Math.min(need.minimumLifeMs ?? 0, (until - held.row.issuedAt) / 2))
          throw new Fault('RENEWAL_PENDING', {
            detail: 'A renewal would end the token that others hold; it is renewed when it is due.',
            retryAfterMs: until - now,
          });
        return { ...(await take(held)), expiresAt: until };
      }
      if (held.row.nextAt === null) throw refusal(held.row.cause);
      if (isNewer && until > now) continue; // due in a moment
      const { givenBack } = await engine.renewOne(grantId, held.row.generation);
      if (givenBack?.cause === 'held') throw new Fault('INSTALLATION_HELD', { retryAfterMs: givenBack.waitMs });
      if (givenBack?.cause) throw refusal(givenBack.cause, givenBack.waitMs, true);
      if (held.row.failures > 0 && held.row.leaseUntil === null && held.row.cause !== null)
        throw refusal(held.row.cause, Math.max(held.row.nextAt - now, RETRY_AFTER_MS), true);
    }
    throw new Fault('RENEWAL_PENDING', { retryAfterMs: RETRY_AFTER_MS });
  };
  /** While the database is away, what is in memory is issued for as long as it lives: nobody can renew it either. */
  const fetchEndingOrKept = (grantId: string, need: TokenNeed): Promise<CachedToken> =>
    fetchEnding(grantId, need).catch((error: unknown) => {
      const kept = error instanceof Fault && error.code === 'DATABASE_UNAVAILABLE' ? cached(grantId, need) : undefined;
      return kept ?? Promise.reject(error);
    });
  const issue = async (grantId: string, need: TokenNeed = NO_NEED): Promise<CachedToken> => {
    const ready = need.endsByRenewal ? undefined : cached(grantId, need);
    if (ready) return ready;
    const key = need === NO_NEED ? grantId : `${grantId} ${need.minimumLifeMs} ${need.newerThan} ${need.endsByRenewal}`;
    let running = fetching.get(key);
    if (!running) {
      running = (need.endsByRenewal ? fetchEndingOrKept : fetch)(grantId, need).finally(() => fetching.delete(key));
      fetching.set(key, running);
    }
    return running;
  };
  return Object.assign(issue, { ready: (grantId: string) => cached(grantId, NO_NEED) ?? null });
}

const CHECKING = 'The provider\u2019s answer was lost; checking whether it renewed.';

/** Why there is no token. `planned`: it is retried automatically, so nothing is decided and nobody has to act yet. */
function refusal(cause: RenewalCause | null, retryAfterMs = RETRY_AFTER_MS, planned = false): Fault {
  const wait = { retryAfterMs: Math.min(retryAfterMs, 3_600_000) };
  switch (cause) {
    case 'client_refused':
      return new Fault('CLIENT_STOPPED', wait);
    case 'busy':
      return new Fault('PROVIDER_BUSY', wait);
    case 'unsent':
      return new Fault('RENEWAL_PENDING', { ...wait, detail: 'The provider cannot be reached.' });
    case 'unclear':
      return new Fault('RENEWAL_PENDING', { ...wait, detail: CHECKING });
    case 'unconfirmed':
      return new Fault('CLIENT_STOPPED', { ...wait, detail: 'New addresses of the provider are not confirmed yet.' });
    case 'no_refresh_token':
      return new Fault('GRANT_REFUSED', { detail: 'Its access token expired and there is no refresh token.' });
    case 'set_up':
    case 'seal_broken':
      return new Fault('GRANT_REFUSED', { detail: cause === 'set_up' ? 'The provider does not understand the renewal.' : 'Its sealed tokens do not open.' });
    default:
      return planned && cause === 'refused'
        ? new Fault('RENEWAL_PENDING', { ...wait, detail: 'The provider rejected the refresh token once. Retrying before anyone has to act.' })
        : new Fault('GRANT_REFUSED');
  }
}
