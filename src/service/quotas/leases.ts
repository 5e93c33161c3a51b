import { LRUCache } from 'lru-cache';
import type { Quota } from '../../core/provider/api.ts';
import { chunkOf, windowAt } from '../../core/quota/windows.ts';
import { boundedCache } from '../bounded-cache.ts';
import type { Ports } from '../ports.ts';
import type { QuotaStore } from '../store/quotas.ts';

/** One window that a call counts in. */
export interface QuotaUse {
  scope: string;
  quota: Quota;
  most: number;
  cost: number;
}

/** An open window as this replica holds it. */
export interface HeldWindow {
  scope: string;
  startAt: number;
  endAt: number;
  /** Leased and not spent. */
  left: number;
  /** `used` of the row when it was last read. */
  used: number;
  /** The least cost for which nothing was to be had any more in this window. */
  refusedFrom: number;
  heldUntil: number;
  leasing: Promise<void> | null;
  correctedAt: number;
}

/** Chunks of windows that this replica leased, and spends from memory. */
interface QuotaLeases {
  /** The window that is open now. */
  stateOf(use: QuotaUse, now: number): HeldWindow;
  /** The last window of a scope, open or not. */
  known(scope: string): HeldWindow | undefined;
  /** True: taken from what was leased. False: nothing is taken. */
  takeLeased(uses: readonly QuotaUse[]): boolean;
  /** Epoch ms until which these have to wait; 0: taken. Leases more where it must. */
  tryTake(uses: readonly QuotaUse[]): Promise<number>;
  /** What was leased of an open window and is not spent. */
  unspent(scope: string): number;
  giveBack(): Promise<void>;
}

const MAX_HELD = 50_000;
const LEASE_TRIES = 6;
const CLEAN_EVERY = 200;

export function quotaLeases({ store, ports }: { store: QuotaStore; ports: Pick<Ports, 'clock' | 'log'> }): QuotaLeases {
  const held = new LRUCache<string, HeldWindow>(boundedCache(MAX_HELD));
  let taken = 0;

  const stateOf = (use: QuotaUse, now: number): HeldWindow => {
    const present = held.get(use.scope);
    if (present && now < present.endAt && now >= present.startAt) return present;
    const { startAt, endAt } = windowAt(use.quota, now);
    const fresh: HeldWindow = {
      scope: use.scope,
      startAt,
      endAt,
      left: 0,
      used: 0,
      refusedFrom: Number.POSITIVE_INFINITY,
      heldUntil: present?.heldUntil ?? 0,
      leasing: null,
      correctedAt: 0,
    };
    held.set(use.scope, fresh);
    return fresh;
  };
  const lease = async (state: HeldWindow, use: QuotaUse): Promise<void> => {
    for (let tries = 0; tries < LEASE_TRIES; tries += 1) {
      const row = await store.read(state);
      if (!row) {
        await store.start(state, use.most);
        continue;
      }
      state.heldUntil = Math.max(state.heldUntil, row.heldUntil ?? 0);
      const chunk = chunkOf(use.most, Math.max(0, use.most - row.used), use.cost - state.left);
      state.used = row.used;
      if (chunk + state.left < use.cost) {
        state.refusedFrom = Math.min(state.refusedFrom, use.cost);
        return;
      }
      if (await store.take(state, chunk, row.used)) {
        state.left += chunk;
        state.used += chunk;
        taken += 1;
        if (taken % CLEAN_EVERY === 0) await store.deleteOld();
        return;
      }
    }
  };
  const leaseOnce = async (state: HeldWindow, use: QuotaUse): Promise<void> => {
    state.leasing ??= lease(state, use)
      .catch((cause: unknown) => {
        // Without the database the provider's own limit is what is left; nobody is kept from calling.
        ports.log.warn({ event: 'quota.not_counted', cause: String(cause) }, 'quota not counted: the database is unavailable');
        state.left += use.cost;
      })
      .finally(() => {
        state.leasing = null;
      });
    await state.leasing;
  };
  /** All of them or none. */
  const spend = (uses: readonly QuotaUse[], states: readonly HeldWindow[]): boolean => {
    if (states.some((state, at) => state.left < (uses[at] as QuotaUse).cost)) return false;
    states.forEach((state, at) => {
      state.left -= (uses[at] as QuotaUse).cost;
    });
    return true;
  };
  /** Epoch ms until which these have to wait; 0: taken. */
  const tryTake = async (uses: readonly QuotaUse[]): Promise<number> => {
    for (let round = 0; round < LEASE_TRIES; round += 1) {
      const now = ports.clock.now();
      const states = uses.map((use) => stateOf(use, now));
      const until = Math.max(
        0,
        ...states.map((state, at) => {
          const { cost } = uses[at] as QuotaUse;
          return state.heldUntil > now ? state.heldUntil : state.left < cost && cost >= state.refusedFrom ? state.endAt : 0;
        }),
      );
      if (until > 0) return until;
      if (spend(uses, states)) return 0;
      const lacking = uses.findIndex((use, at) => (states[at] as HeldWindow).left < use.cost);
      await leaseOnce(states[lacking] as HeldWindow, uses[lacking] as QuotaUse);
    }
    return ports.clock.now() + 100; // many took what was leased before us: once more, in a moment
  };
  return {
    stateOf,
    known: (scope) => held.get(scope),
    tryTake,
    takeLeased(uses) {
      const now = ports.clock.now();
      const states = uses.map((use) => stateOf(use, now));
      return states.every((state) => state.heldUntil <= now) && spend(uses, states);
    },
    unspent(scope) {
      const one = held.get(scope);
      const now = ports.clock.now();
      return one && now >= one.startAt && now < one.endAt ? one.left : 0;
    },
    async giveBack() {
      const now = ports.clock.now();
      for (const one of held.values()) {
        const count = Math.floor(one.left);
        if (count <= 0 || now >= one.endAt) continue;
        one.left = 0;
        await store
          .giveBack(one, count)
          .catch((cause: unknown) => ports.log.debug({ event: 'quota.not_given_back', cause: String(cause) }, 'an unspent quota was not given back'));
      }
    },
  };
}
