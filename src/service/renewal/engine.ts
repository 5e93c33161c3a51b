import { isSpendable } from '../../core/provider/definition.ts';
import type { ConditionalUpdate } from '../../core/renewal/conditional-update.ts';
import { claim, takeOver } from '../../core/renewal/transitions.ts';
import { recordId } from '../ports.ts';
import type { HeldRow } from '../store/held-row.ts';
import { type GivenBack, renewHeld } from './attempt.ts';
import type { AttemptParts } from './attempt-parts.ts';
import { canSpend, type GrantContext } from './grant-context.ts';

/** Renews grants by the protocol of docs/RENEWAL.md: claims rows and runs an attempt for each. */
export interface RenewalEngine {
  /** T1 for due rows, then all of it for each; how many were claimed. Null: no slot is free. */
  renewDue(most: number): Promise<number | null>;
  /**
   * T1 for one row; resolves when the attempt is over. `tooOld`: the generation whose access token a token issuance found too old; then it may
   * come before it is due.
   */
  renewOne(grantId: string, tooOld?: number): Promise<{ claimed: boolean; givenBack: GivenBack | null }>;
  inFlight(): number;
  /** The watermark: since when (epoch ms) the oldest attempt is open, from just before T2 until its answer is safe; null: none. */
  openSince(): number | null;
  /** T1 from owners that have gone silent, where the provider's grace would expire before their leases; and from dead ones. */
  takeOverSilent(): Promise<number>;
  /** Resolves when nothing is in flight any more. */
  idle(): Promise<void>;
}

const CLAIM_SPREAD = 4;
/** Due rows that were read are good for a claim for so long; whoever is faster has them by then. */
const LEFT_GOOD_FOR_MS = 500;
/** Claim big and seldom: while fewer than this part of the slots is free, none is filled. */
const ROOM_LEAST = 0.25;

export function renewalEngine(parts: AttemptParts): RenewalEngine {
  const { me, store, limits, ports } = parts;
  const running = new Map<string, Promise<GivenBack | null>>();
  const openAt = new Map<string, number>();

  /** T1, and an attempt for each row that was taken; how many. */
  const take = async (ids: string[], transition: (claimId: string) => ConditionalUpdate, urgent: boolean): Promise<number> => {
    const free = ids.filter((id) => !running.has(id));
    if (free.length === 0) return 0;
    const claimId = recordId(ports);
    if ((await store.update(free, transition(claimId))) === 0) return 0;
    const [held, contexts] = await Promise.all([store.claimed(free, claimId), parts.contexts.of(free)]);
    if (held === null) return 0;
    start(held, contexts, urgent);
    return held.length;
  };
  const start = (held: HeldRow[], contexts: Map<string, GrantContext>, urgent: boolean): void => {
    for (const one of held) {
      openAt.set(one.grantId, ports.clock.now());
      const work = renewHeld(parts, one, contexts.get(one.grantId), urgent)
        .catch((cause: unknown) => {
          // What fails here is our side (database away): the lease lapses and someone claims again.
          ports.log.warn({ event: 'renewals.given_up', cause: String(cause), grant: one.grantId }, 'renewal given up until its lease expires');
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
  /** Due rows that were read and not yet wanted: to look again costs as much as to claim. */
  let [left, leftUntil]: [string[], number] = [[], 0];
  const claimDue = async (room: number): Promise<number> => {
    const wanted = sample(left, room, ports.random.unit);
    left = left.filter((id) => !wanted.includes(id));
    return take(wanted, (claimId) => claim(me, claimId, limits, null), false);
  };
  return {
    async renewDue(most) {
      const room = most - running.size;
      if (room < Math.max(1, most * ROOM_LEAST)) return null;
      if (!parts.hold.isHeld()) heldClients.clear();
      const closed = [...parts.lanes.closedClients(ports.clock.now()), ...heldClients];
      const known = left.length >= room && ports.clock.now() < leftUntil;
      const taken = known ? await claimDue(room) : 0;
      if (taken >= room / 2) return taken;
      // None were left, or others were faster.
      [left, leftUntil] = [await allowed(await store.dueIds(room * CLAIM_SPREAD, closed)), ports.clock.now() + LEFT_GOOD_FOR_MS];
      return taken + (await claimDue(room - taken));
    },
    async renewOne(grantId, tooOld) {
      const present = running.get(grantId);
      if (present) return { claimed: true, givenBack: await present };
      const taken = await take([grantId], (claimId) => claim(me, claimId, limits, tooOld ?? null), true);
      return { claimed: taken > 0, givenBack: (await running.get(grantId)) ?? null };
    },
    inFlight: () => running.size,
    openSince: () => (openAt.size === 0 ? null : Math.min(...openAt.values())),
    async takeOverSilent() {
      const left = await parts.holders.leftBySilent();
      const contexts = await parts.contexts.of(left.map((one) => one.grantId));
      let taken = 0;
      for (const { grantId, owner, isDead, isSent } of left) {
        const dialect = contexts.get(grantId)?.definition.dialect;
        // Whatever would have to wait for the end of the lease anyway (`uncertainWaitMs`) stays where it is.
        const isSafe = dialect?.reuse === 'grace' || (isDead && (!isSent || (dialect !== undefined && (!isSpendable(dialect) || dialect.reuse === 'refused'))));
        if (isSafe) taken += await take([grantId], (claimId) => takeOver(me, claimId, limits, { owner, isDead }), false);
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
