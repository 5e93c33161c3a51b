import type { RenewalLimits } from '../../core/renewal/limits.ts';
import { cannotHold } from '../../core/renewal/uncertain-wait.ts';
import type { LeftRow, ReplicaStore } from '../store/replicas.ts';

/** Who may still hold the answer to a request, judged by heartbeats and watermarks. */
export interface Holders {
  /** True when none of these lives (null: nobody) can still bring an answer to what was sent at `sentAt` (epoch ms). */
  nobodyHolds(lives: (string | null)[], sentAt: number): Promise<boolean>;
  /** Since when this replica's contact with the database is unbroken, epoch ms. */
  contactSince(): number;
  /** Rows with a live lease whose owner has gone silent while armed, or is dead. */
  leftBySilent(): Promise<LeftRow[]>;
}

const MAX_LEFT = 200;

export function holders(deps: { store: ReplicaStore; limits: RenewalLimits; me: string; contactSince(): number }): Holders {
  const { store, limits, me } = deps;
  return {
    async nobodyHolds(lives, sentAt) {
      // What we sent ourselves and still hold is in flight here, and would not have been claimed again.
      const others = [...new Set(lives)].filter((life): life is string => life !== null && life !== me);
      if (others.length === 0) return true;
      const signs = await store.signsOf(others);
      return others.every((life) => cannotHold(signs.get(life) ?? null, sentAt, limits));
    },
    contactSince: deps.contactSince,
    leftBySilent: () => store.leftBySilent(me, limits, MAX_LEFT),
  };
}
