import type { ActivityVerified } from '../../api/activity.ts';
import { type ChainedEntry, follow, isProved, pointProof } from '../../core/activity/chain.ts';
import { Fault } from '../../core/fault.ts';
import { iso, isoOrNull } from '../iso.ts';
import type { Chain, ChainStore } from '../store/history-chains.ts';

const AT_ONCE = 5_000;
const ENTRIES_EACH_CALL = 50_000;

interface Anchor {
  chain: string;
  sequence: number;
  hash: string;
}
const anchorsOf = (entry: ChainedEntry): Anchor[] => {
  if (entry.kind !== 'service_started' && entry.kind !== 'activity_anchored') return [];
  const { anchors } = JSON.parse(entry.data) as { anchors?: Anchor[] };
  return Array.isArray(anchors) ? anchors : [];
};

type Broken = NonNullable<ActivityVerified['broken']>;
const ofChain = (chain: Chain, why: string): Broken => ({ chain: chain.id, entry: null, at: null, says: null, why });

/**
 * Verifies the activity log, a piece at a time: every entry by the hash of the one before it, the base and the head of each chain by their
 * proofs, and the places that chains name of each other.
 * @param cursor where the last piece ended; null: from the beginning
 */
export async function verifyActivity(s: { chains: ChainStore; key: Uint8Array }, cursor: string | null): Promise<ActivityVerified> {
  const chains = await s.chains.list();
  const known = new Map(chains.map((chain) => [chain.id, chain]));
  const [fromChain, fromSequence] = cursor?.split(':') ?? [];
  const first = fromChain === undefined ? 0 : chains.findIndex((chain) => chain.id === fromChain);
  if (first < 0) throw new Fault('INPUT_INVALID', { detail: 'The cursor names no chain.', remedy: 'Begin again without it.' });
  let checked = 0;
  const result = (of: { next: string | null; broken: Broken | null }): ActivityVerified => ({ checked, chains: chains.length, unchained: null, ...of });
  for (const chain of chains.slice(first)) {
    const isResumed = chain.id === fromChain && fromSequence !== undefined;
    if (!isResumed) {
      const wrong = endsProved(s.key, chain);
      if (wrong) return result({ next: null, broken: ofChain(chain, wrong) });
    }
    let reached = chain.base;
    if (isResumed) {
      const hash = await s.chains.hashAt(chain.id, Number(fromSequence));
      if (!hash) return result({ next: null, broken: ofChain(chain, 'An entry was removed while it was verified.') });
      reached = { sequence: Number(fromSequence), hash };
    }
    while (reached.sequence < chain.head.sequence) {
      if (checked >= ENTRIES_EACH_CALL) return result({ next: `${chain.id}:${reached.sequence}`, broken: null });
      const entries = await s.chains.entries(chain.id, reached.sequence, chain.head.sequence, AT_ONCE);
      if (entries.length === 0) break;
      const followed = follow(reached, entries);
      checked += followed.reached.sequence - reached.sequence;
      reached = followed.reached;
      if (followed.broken) return result({ next: null, broken: ofEntry(chain, followed.broken.entry, followed.broken.why) });
      for (const entry of entries)
        for (const anchor of anchorsOf(entry)) {
          const why = await anchorWrong(s.chains, known, anchor);
          if (why) return result({ next: null, broken: ofEntry(chain, entry, why) });
        }
    }
    if (reached.sequence !== chain.head.sequence || !reached.hash.equals(chain.head.hash)) {
      const missing = chain.head.sequence - reached.sequence;
      const why = missing > 0 ? `The last ${missing === 1 ? 'entry is' : `${missing} entries are`} missing.` : 'The last entry was replaced.';
      return result({ next: null, broken: ofChain(chain, why) });
    }
  }
  const { unchained, newestAt, foreign } = await s.chains.outside();
  const broken = foreign && {
    chain: null,
    entry: foreign.id,
    at: iso(foreign.at),
    says: null,
    why: 'The chain of this entry is not known: it was removed, or the entry was put in.',
  };
  return { checked, chains: chains.length, next: null, broken, unchained: unchained === 0 ? null : { count: unchained, newest_at: isoOrNull(newestAt) } };
}

function endsProved(key: Uint8Array, { id, head, headProof, base, baseProof }: Chain): string | null {
  if (!isProved(pointProof(key, id, 'head', head), headProof)) return 'Its head was changed in the database, or comes from another master key.';
  if (base.sequence > 0 && (baseProof === null || !isProved(pointProof(key, id, 'base', base), baseProof)))
    return 'Its oldest entries were removed, and not by retention.';
  return null;
}

const ofEntry = (chain: Chain, entry: ChainedEntry, why: string): Broken => ({ chain: chain.id, entry: entry.id, at: iso(entry.at), says: entry.says, why });

async function anchorWrong(store: ChainStore, known: ReadonlyMap<string, Chain>, { chain: id, sequence, hash }: Anchor): Promise<string | null> {
  const chain = known.get(id);
  if (!chain) return 'A chain that this entry names was removed.';
  if (sequence <= chain.base.sequence) return null; // past its retention
  if (sequence > chain.head.sequence) return 'A chain that this entry names was cut back.';
  return (await store.hashAt(id, sequence))?.toString('hex') === hash ? null : 'An entry that this one names was changed or removed.';
}
