import type { SecretKind } from '../oauth/methods.ts';

/**
 * A client's secrets over time. `unverified`: entered, and another one is in use; `active`: the current one; `former`: it was in use
 * until a new one was verified, and comes back if that one fails; `rejected`: the provider did not take it; `retired`: discarded.
 */
export const SECRET_STATES = ['unverified', 'active', 'former', 'rejected', 'retired'] as const;
export type SecretState = (typeof SECRET_STATES)[number];

export interface KnownSecret {
  id: string;
  kind: SecretKind;
  state: SecretState;
  /** Epoch ms. */
  startsAt: number;
  endsAt: number | null;
  enteredAt: number;
  refusedAt: number | null;
  /** Made here, and not yet uploaded at the provider as far as we know: it is verified when someone shows it. */
  waits?: boolean;
}

/**
 * The secrets with which a request may be made now, best first. Those not rejected come before those that were, by the one rejected
 * longest ago; the current one before a former one, that before one not verified yet; ends are what a person typed, so that one past its
 * end comes last and is still better than none. One that has not begun is not tried.
 */
export function usableSecrets<T extends KnownSecret>(secrets: readonly T[], kinds: readonly SecretKind[], now: number): T[] {
  const rank: Record<SecretState, number> = { active: 0, former: 1, unverified: 2, rejected: 3, retired: 9 };
  const key = (one: T): number[] => [
    one.refusedAt === null ? 0 : 1,
    one.endsAt !== null && one.endsAt <= now ? 1 : 0,
    one.refusedAt ?? 0,
    rank[one.state],
    -one.enteredAt,
  ];
  return secrets
    .filter((one) => one.state !== 'retired' && kinds.includes(one.kind) && one.startsAt <= now)
    .map((one) => ({ one, key: key(one) }))
    .sort((a, b) => a.key.map((value, at) => value - (b.key[at] ?? 0)).find((difference) => difference !== 0) ?? 0)
    .map(({ one }) => one);
}

const DAY_MS = 86_400_000;
/** Where no end is known, age counts. */
const OLD_MS = 365 * DAY_MS;

/** What comes next for a secret, in words. `now`: epoch ms. */
export function secretInWords(one: KnownSecret, now: number): string {
  switch (one.state) {
    case 'unverified':
      if (one.waits) return 'Made here: upload its public part at the provider, then verify it.';
      return one.startsAt > now ? 'Waits for its beginning; then it is verified.' : 'Waits to be verified: the current one stays until then.';
    case 'active':
      if (one.endsAt === null && now - one.enteredAt > OLD_MS)
        return `In use for ${Math.floor((now - one.enteredAt) / DAY_MS)} days, and no end is known: replace it now and then.`;
      return one.endsAt !== null && one.endsAt <= now ? 'In use, though its end has passed.' : 'In use.';
    case 'former':
      return 'Kept in reserve: it comes back if the current one is rejected.';
    case 'rejected':
      return 'The provider does not take it.';
    default:
      return 'Forgotten.';
  }
}
