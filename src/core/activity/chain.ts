import { createHash, createHmac, hkdfSync, timingSafeEqual } from 'node:crypto';

/**
 * Entries of the activity log form chains: each holds the SHA-256 of itself with the hash before it. Whoever edits, removes or adds one in
 * the database breaks the chain from there on. The head of a chain is authenticated with a key that is not in the database, so that a chain
 * cannot be computed again either.
 */
export interface ChainedEntry {
  id: string;
  /** Epoch ms. */
  at: number;
  actor: string;
  kind: string;
  subject: string;
  says: string;
  /** As it is stored: JSON text. */
  data: string;
  routine: boolean;
  requestId: string | null;
  address: string | null;
  sequence: number;
  hash: Buffer;
}
/** A place in a chain: after so many entries, with this hash. */
export interface ChainPoint {
  sequence: number;
  hash: Buffer;
}

const sha256 = (text: string): Buffer => createHash('sha256').update(text, 'utf8').digest();

/** Before the first entry. */
export const chainStart = (chainId: string): ChainPoint => ({ sequence: 0, hash: sha256(JSON.stringify(['activity/1', chainId])) });

/** The hash of an entry behind the one before it. A JSON array, never joined text, so that no two entries give one text. */
export const entryHash = (previous: Uint8Array, entry: Omit<ChainedEntry, 'hash'>): Buffer =>
  sha256(
    JSON.stringify([
      ...[Buffer.from(previous).toString('hex'), entry.sequence, entry.id, entry.at, entry.actor, entry.kind, entry.subject, entry.says],
      ...[entry.data, entry.routine, entry.requestId, entry.address],
    ]),
  );

/** The key that authenticates places in chains. @param master the bytes of the master key */
export const chainKey = (master: Uint8Array): Buffer => Buffer.from(hkdfSync('sha256', master, new Uint8Array(), 'activity/1', 32));

/** Proof that a place was reached: of the head, and of where retention has cut. */
export const pointProof = (key: Uint8Array, chainId: string, what: 'head' | 'base', { sequence, hash }: ChainPoint): Buffer =>
  createHmac('sha256', key)
    .update(JSON.stringify([chainId, what, sequence, hash.toString('hex')]))
    .digest();
export const isProved = (wanted: Uint8Array, proof: Uint8Array): boolean => proof.length === wanted.length && timingSafeEqual(wanted, proof);

/** Follows entries from a place. The first that does not fit is named. */
export function follow(from: ChainPoint, entries: readonly ChainedEntry[]): { reached: ChainPoint; broken: { entry: ChainedEntry; why: string } | null } {
  let reached = from;
  for (const entry of entries) {
    if (entry.sequence !== reached.sequence + 1) {
      const missing = entry.sequence - reached.sequence - 1;
      const why = missing > 0 ? `${missing === 1 ? 'An entry is' : `${missing} entries are`} missing before this one.` : 'This entry appears twice.';
      return { reached, broken: { entry, why } };
    }
    if (!entryHash(reached.hash, entry).equals(entry.hash))
      return { reached, broken: { entry, why: 'This entry was changed, or the one before it was replaced.' } };
    reached = { sequence: entry.sequence, hash: entry.hash };
  }
  return { reached, broken: null };
}
