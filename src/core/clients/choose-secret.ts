import type { SecretKind } from '../oauth/methods.ts';

/**
 * A client's secrets over time. `unproved`: entered, and another one is in use; `active`: the one in use; `former`: it was in use
 * until a newer one was proved, and comes back if that one fails; `refused`: the provider did not take it; `retired`: forgotten.
 */
export const SECRET_STATES = ['unproved', 'active', 'former', 'refused', 'retired'] as const;
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
  /** Made here, and not yet uploaded at the provider as far as we know: it is proved when somebody says so. */
  waits?: boolean;
}

/**
 * The secrets with which a request may be made now, best first. Those not refused come before those that were, by the one refused
 * longest ago; the one in use before a former one, that before one not proved yet; ends are what a person typed, so that one past its
 * end comes last and is still better than none. One that has not begun is not tried.
 */
export function usableSecrets<T extends KnownSecret>(secrets: readonly T[], kinds: readonly SecretKind[], now: number): T[] {
  const rank: Record<SecretState, number> = { active: 0, former: 1, unproved: 2, refused: 3, retired: 9 };
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
    case 'unproved':
      if (one.waits) return 'Made here: upload its public part at the provider, then prove it.';
      return one.startsAt > now ? 'Waits for its beginning; then it is proved.' : 'Waits to be proved: the one in use stays until then.';
    case 'active':
      if (one.endsAt === null && now - one.enteredAt > OLD_MS)
        return `In use for ${Math.floor((now - one.enteredAt) / DAY_MS)} days, and no end is known: replace it now and then.`;
      return one.endsAt !== null && one.endsAt <= now ? 'In use, though its end has passed.' : 'In use.';
    case 'former':
      return 'Kept in reserve: it comes back if the one in use is refused.';
    case 'refused':
      return 'The provider does not take it.';
    default:
      return 'Forgotten.';
  }
}
