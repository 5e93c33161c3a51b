import { claim, takeOver } from '../../core/renewal/transitions.ts';
import { recordId } from '../ports.ts';
import type { HeldRow } from '../store/renewals.ts';
import { type AttemptParts, type GivenBack, renewHeld } from './attempt.ts';
import { canSpend, type GrantContext } from './grant-context.ts';

/** Renews grants by the protocol of docs/RENEWAL.md: claims rows and runs an attempt for each. */
export interface RenewalEngine {
  /** T1 for due rows, then all of it for each; how many were claimed. Null: no slot is free. */
  renewDue(most: number): Promise<number | null>;
  /**
   * T1 for one row; resolves when the attempt is over. `tooOld`: the generation whose access token a handout found too old; then it may
   * come before it is due.
   */
  renewOne(grantId: string, tooOld?: number): Promise<{ claimed: boolean; givenBack: GivenBack | null }>;
  inFlight(): number;
  /** The watermark: since when (epoch ms) the oldest attempt is open, from just before T2 until its answer is safe; null: none. */
  openSince(): number | null;
  /** T1 from owners that have gone silent, where the provider's grace would run out before their leases. */
  takeOverSilent(): Promise<number>;
  /** Resolves when nothing is in flight any more. */
  idle(): Promise<void>;
}

const CLAIM_SPREAD = 4;
/** Claim big and seldom: while fewer than this part of the slots is free, none is filled. */
const ROOM_LEAST = 0.25;

export function renewalEngine(parts: AttemptParts): RenewalEngine {
  const { me, store, limits, ports } = parts;
  const running = new Map<string, Promise<GivenBack | null>>();
  const openAt = new Map<string, number>();

  const take = async (ids: string[], early: number | null): Promise<HeldRow[]> => {
    const free = ids.filter((id) => !running.has(id));
    if (free.length === 0) return [];
    const claimId = recordId(ports);
    const taken = await store.update(free, claim(me, claimId, limits, early));
    return taken === 0 ? [] : store.claimed(free, claimId);
  };
  const start = async (held: HeldRow[], urgent: boolean): Promise<void> => {
    if (held.length === 0) return;
    const contexts = await parts.contexts.of(held.map((one) => one.grantId));
    for (const one of held) {
      openAt.set(one.grantId, ports.clock.now());
      const work = renewHeld(parts, one, contexts.get(one.grantId), urgent)
        .catch((cause: unknown) => {
          // What fails here is our side (database away): the lease lapses and somebody claims again.
          ports.log.warn({ cause: String(cause), grant: one.grantId }, 'renewal given up until its lease ends');
          return null;
        })
        .finally(() => {
          running.delete(one.grantId);
          openAt.delete(one.grantId);
        });
      running.set(one.grantId, work);
    }
  };
  /** While the installation is held, only what no renewal can spend is claimed at all. */
  const allowed = async (ids: string[]): Promise<string[]> => {
    if (!parts.hold.isHeld()) return ids;
    const contexts = await parts.contexts.of(ids);
    return ids.filter((id) => {
      const context = contexts.get(id);
      if (context && canSpend(context)) heldClients.add(context.clientRecordId);
      return context && !canSpend(context);
    });
  };
  const heldClients = new Set<string>();
  return {
    async renewDue(most) {
      const room = most - running.size;
      if (room < Math.max(1, most * ROOM_LEAST)) return null;
      if (!parts.hold.isHeld()) heldClients.clear();
      const closed = [...parts.lanes.closedClients(ports.clock.now()), ...heldClients];
      const ids = await allowed(await store.dueIds(room * CLAIM_SPREAD, closed));
      const held = await take(sample(ids, room, ports.random.unit), null);
      await start(held, false);
      return held.length;
    },
    async renewOne(grantId, tooOld) {
      const present = running.get(grantId);
      if (present) return { claimed: true, givenBack: await present };
      const held = await take([grantId], tooOld ?? null);
      await start(held, true);
      return { claimed: held.length > 0, givenBack: (await running.get(grantId)) ?? null };
    },
    inFlight: () => running.size,
    openSince: () => (openAt.size === 0 ? null : Math.min(...openAt.values())),
    async takeOverSilent() {
      const left = await parts.holders.leftBySilent();
      const contexts = await parts.contexts.of(left.map((one) => one.grantId));
      let taken = 0;
      for (const { grantId, owner } of left) {
        const context: GrantContext | undefined = contexts.get(grantId);
        if (running.has(grantId) || context?.definition.dialect.reuse !== 'grace') continue;
        const claimId = recordId(ports);
        if ((await store.update([grantId], takeOver(me, claimId, limits, owner))) === 0) continue;
        await start(await store.claimed([grantId], claimId), false);
        taken += 1;
      }
      return taken;
    },
    async idle() {
      while (running.size > 0) await Promise.all(running.values());
    },
  };
}

/** Takes n at random, so that replicas that read the same list seldom want the same rows. */
function sample<T>(items: T[], n: number, unit: () => number): T[] {
  const left = [...items];
  for (let at = 0; at < n && at < left.length; at += 1) {
    const other = at + Math.floor(unit() * (left.length - at));
    [left[at], left[other]] = [left[other] as T, left[at] as T];
  }
  return left.slice(0, n);
}
