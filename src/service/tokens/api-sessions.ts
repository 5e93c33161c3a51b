import { LRUCache } from 'lru-cache';
import { attempts } from '../../api/attempts.ts';
import { Fault } from '../../core/fault.ts';
import { plainText } from '../../core/oauth/token-answer.ts';
import { reasonInWords } from '../../core/oauth/wire.ts';
import { callHeaders } from '../../core/provider/api.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { readSession, refusesAccess, sessionAddress } from '../../core/provider/session-step.ts';
import { issuanceFloorMs } from '../../core/renewal/plan.ts';
import { Secret } from '../../core/secret.ts';
import { boundedCache } from '../bounded-cache.ts';
import type { Ports } from '../ports.ts';
import type { Sealer } from '../sealer.ts';
import type { ApiSessionStore } from '../store/api-sessions.ts';
import type { Issuance, TokenNeed } from './issuance.ts';
import type { SetUp } from './set-up.ts';

/** A session at an API, and how long it is good. */
interface ApiSession {
  access: Secret;
  baseUrl: string | null;
  issuedAt: number;
  expiresAt: number;
  version: number;
}

interface SessionNeed extends Pick<TokenNeed, 'minimumLifeMs'> {
  /** A version that the API said is gone: only a new one will do. */
  newerThan?: number;
}

/**
 * The second step of some APIs: an access token is exchanged for a session token. Kept sealed in the database, so that all replicas use
 * the same one; opened by one replica at a time (a conditional UPDATE claims, the call is made without a lock).
 * @throws {Fault} SESSION_REFUSED, PROVIDER_UNREACHABLE, RENEWAL_PENDING, and what a token issuance throws
 */
export interface ApiSessions {
  open(grantId: string, setUp: Pick<SetUp, 'definition' | 'session'>, need?: SessionNeed): Promise<ApiSession>;
}

const LEASE_MS = 20_000;
const DEADLINE_MS = 15_000;
const MAX_WAIT_MS = 10_000;
const LOOK_EVERY_MS = 100;
const ANSWER_BYTES = 64 * 1024;
/** For how long a rejection is not requested again. */
const REFUSED_FOR_MS = 2_000;
/** Opened again, in the background, when less than this part of the lifetime is left. */
const RENEW_AT = 0.2;

export function apiSessions(deps: {
  store: ApiSessionStore;
  sealer: Sealer;
  issuance: Issuance;
  ports: Pick<Ports, 'clock' | 'send' | 'log'>;
  me: string;
}): ApiSessions {
  const { store, sealer, issuance, ports, me } = deps;
  const kept = new LRUCache<string, ApiSession>(boundedCache(50_000));
  const refused = new LRUCache<string, Fault>({ ...boundedCache(10_000), ttl: REFUSED_FOR_MS });
  const opening = new Map<string, Promise<ApiSession>>();
  const place = (grantId: string) => ({ table: 'api_sessions', row: grantId, column: 'sealed' });

  const isEnough = (one: ApiSession, need: SessionNeed): boolean => {
    const rest = one.expiresAt - ports.clock.now();
    const wishedMs = Math.min(need.minimumLifeMs ?? 0, (one.expiresAt - one.issuedAt) / 2);
    return rest >= Math.max(issuanceFloorMs(one), wishedMs) && (need.newerThan === undefined || one.version > need.newerThan);
  };
  const read = async (grantId: string): Promise<{ version: number; session: ApiSession | null }> => {
    const row = await store.read(grantId);
    if (!row) return { version: 0, session: null };
    const { sealed, issuedAt, expiresAt, version, baseUrl } = row;
    if (sealed === null || issuedAt === null || expiresAt === null) return { version, session: null };
    try {
      return { version, session: { access: await sealer.open(place(grantId), sealed), baseUrl, issuedAt, expiresAt, version } };
    } catch (cause) {
      if (!(cause instanceof Fault && cause.code === 'SEAL_BROKEN')) throw cause;
      ports.log.error({ event: 'sessions.not_readable', grant: grantId }, 'a sealed session does not open: another one is opened at the API');
      return { version, session: null };
    }
  };
  const ask = async (grantId: string, definition: ProviderDefinition, step: NonNullable<SetUp['session']>): Promise<Omit<ApiSession, 'version'>> => {
    let token = await issuance(grantId);
    for (const mayRenew of [true, false]) {
      const sentAt = ports.clock.now();
      const outcome = await ports.send({
        method: step.step.method,
        url: sessionAddress(step.api, step.step),
        headers: { ...callHeaders(step.api, token.access.reveal()), ...(step.step.body === undefined ? {} : { 'content-type': 'application/json' }) },
        ...(step.step.body === undefined ? {} : { body: step.step.body }),
        deadlineMs: DEADLINE_MS,
        limitBytes: ANSWER_BYTES,
      });
      if (outcome.kind !== 'answer')
        throw new Fault('PROVIDER_UNREACHABLE', { detail: `No session could be opened: ${reasonInWords(outcome.reason)}.`, retryAfterMs: REFUSED_FOR_MS });
      // The access token is rejected: once more with a new one, unless it is so young that another would fare no better.
      if (refusesAccess(outcome) && mayRenew && ports.clock.now() - token.issuedAt >= issuanceFloorMs(token)) {
        token = await issuance(grantId, { newerThan: token.generation });
        continue;
      }
      const found = readSession(definition, step.step, outcome);
      if (typeof found === 'string')
        throw new Fault('SESSION_REFUSED', {
          detail: `${found} ${plainText(outcome.body.replaceAll(token.access.reveal(), '[secret]'))?.slice(0, 200) ?? ''}`.trim(),
          retryAfterMs: REFUSED_FOR_MS,
        });
      return { access: new Secret(found.token), baseUrl: found.baseUrl, issuedAt: sentAt, expiresAt: sentAt + found.lifeMs };
    }
    throw new Fault('SESSION_REFUSED');
  };
  const openClaimed = async (grantId: string, setUp: Pick<SetUp, 'definition' | 'session'>, version: number): Promise<ApiSession> => {
    if (!setUp.session) throw new Fault('INTERNAL', { detail: 'The API has no session step.' });
    try {
      const opened: ApiSession = { ...(await ask(grantId, setUp.definition, setUp.session)), version: version + 1 };
      const sealed = sealer.seal(place(grantId), opened.access);
      await store.save(grantId, { ...opened, sealed });
      ports.log.info({ event: 'sessions.opened', grant: grantId, version: opened.version }, 'session opened');
      return opened;
    } catch (error) {
      await store.release(grantId, me).catch(() => undefined); // the lease expires
      if (error instanceof Fault) refused.set(grantId, error);
      throw error;
    }
  };
  const openOne = async (grantId: string, setUp: Pick<SetUp, 'definition' | 'session'>, need: SessionNeed): Promise<ApiSession> => {
    for await (const _ of attempts({ withinMs: MAX_WAIT_MS, everyMs: LOOK_EVERY_MS })) {
      const { version, session } = await read(grantId);
      if (session && isEnough(session, need)) {
        kept.set(grantId, session);
        return session;
      }
      // What the API said is gone is discarded with the claim: nobody else is given it meanwhile.
      const isGone = need.newerThan !== undefined && version <= need.newerThan;
      const claimed = await store.claim(grantId, me, version, { leaseMs: LEASE_MS, discards: isGone });
      if (isGone) kept.delete(grantId);
      if (!claimed) continue; // another opens it: look again
      const opened = await openClaimed(grantId, setUp, version);
      kept.set(grantId, opened);
      return opened;
    }
    throw new Fault('RENEWAL_PENDING', { detail: 'A session at the API is being opened.', retryAfterMs: REFUSED_FOR_MS });
  };
  const start = (grantId: string, setUp: Pick<SetUp, 'definition' | 'session'>, need: SessionNeed): Promise<ApiSession> => {
    let running = opening.get(grantId);
    if (!running) {
      running = openOne(grantId, setUp, need).finally(() => opening.delete(grantId));
      opening.set(grantId, running);
    }
    return running;
  };
  return {
    async open(grantId, setUp, need = {}) {
      const present = kept.get(grantId);
      if (present && isEnough(present, need)) {
        const rest = present.expiresAt - ports.clock.now();
        if (rest < (present.expiresAt - present.issuedAt) * RENEW_AT && !refused.has(grantId))
          void start(grantId, setUp, { minimumLifeMs: present.expiresAt - present.issuedAt }).catch((cause: unknown) =>
            ports.log.debug({ event: 'sessions.not_renewed_ahead', cause: String(cause) }, 'session not renewed ahead'),
          );
        return present;
      }
      const lately = refused.get(grantId);
      if (lately) throw lately;
      const opened = await start(grantId, setUp, need);
      return isEnough(opened, need) ? opened : start(grantId, setUp, need); // what was under way was for a lesser need
    },
  };
}
