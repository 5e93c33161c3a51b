import { createHmac, hkdfSync, timingSafeEqual } from 'node:crypto';

/**
 * Two installations with the same grants invalidate each other's refresh tokens. Each restore makes a new *generation*: the one with the
 * higher generation owns the grants, the other must stop.
 */
export interface Standing {
  /** Of the installation that was backed up and its restored ones: the same. */
  installation: string;
  generation: number;
  /** Which restore made it; null: none did. Tells two restores of one backup apart. */
  restore: string | null;
}

/**
 * What another one is to us. `self`: the same database. `former`: it must stop. `successor`: we must stop. `twin`: the same backup was
 * restored twice; both must stop. `stranger`: another installation.
 */
export type Judgment = 'self' | 'former' | 'successor' | 'twin' | 'stranger';

export function judge(mine: Standing, other: Standing): Judgment {
  if (other.installation !== mine.installation) return 'stranger';
  if (other.generation !== mine.generation) return other.generation < mine.generation ? 'former' : 'successor';
  return other.restore === mine.restore ? 'self' : 'twin';
}

/** The key by which installations of one origin know each other, from the key of the activity log, which every backup holds. */
export const fenceKey = (activityKey: Uint8Array): Buffer => Buffer.from(hkdfSync('sha256', activityKey, new Uint8Array(), 'fence/1', 32));

/** Proof that a message came from an installation of the same origin. @param what `ask` or `answer`: one is not taken for the other */
export const fenceProof = (
  key: Uint8Array,
  what: 'ask' | 'answer',
  challenge: string,
  { standing, more }: { standing: Standing; more: readonly unknown[] },
): string =>
  createHmac('sha256', key)
    .update(JSON.stringify([what, challenge, standing.installation, standing.generation, standing.restore, ...more]))
    .digest('base64url');

export function isFenceProof(proof: string, expected: string): boolean {
  const [a, b] = [Buffer.from(proof), Buffer.from(expected)];
  return a.length === b.length && timingSafeEqual(a, b);
}
