import { setTimeout as sleep } from 'node:timers/promises';
import { type ChainPoint, chainStart, entryHash, pointProof } from '../../core/activity/chain.ts';
import { Fault } from '../../core/fault.ts';
import { currentRequest } from '../context.ts';
import { type Ports, recordId } from '../ports.ts';
import { ENTRY_LIMITS, type EntryToAppend, type HistoryFilter, type HistoryRow, type HistoryStore } from '../store/history.ts';
import type { ChainStore } from '../store/history-chains.ts';
import type { EntryStream } from './stream.ts';

/** One thing that happened. `data` holds figures and public names, never a secret. */
interface Event {
  actor: string;
  kind: string;
  subject: string;
  says: string;
  data?: Record<string, unknown>;
  /** What programs do all the time: kept for a shorter time, and left out of lists unless asked for. */
  routine?: boolean;
}

/** Append-only, in chains of hashes. Written in batches behind the work; bounded, and kept in memory while the database is away. */
export interface History {
  add(event: Event): void;
  list(filter: HistoryFilter): Promise<HistoryRow[]>;
  /** Renewals since `since` (epoch ms), newest first, for each subject. */
  renewals(subjects: string[], since: number, most: number): Promise<Map<string, number[]>>;
  counts(kinds: string[], since: number): Promise<Partial<Record<string, number>>>;
  /** Deletes what is older than that, a piece at a time, so that what is left can be verified; how many entries. */
  forget(olderThan: { renewalsMs: number; allMs: number }): Promise<number>;
  /** Entries by kind since this process began. */
  counted(): ReadonlyMap<string, number>;
  stop(): Promise<void>;
}

const FLUSH_MS = 250;
const BATCH = 200;
const MAX_WAITING = 20_000;
const ANCHOR_EVERY_MS = 3_600_000;
/** The newest chains: each of them names those before it. */
const MAX_ANCHORS = 40;
/** So many rows in one statement, so that none holds others up. */
export const FORGOTTEN_AT_ONCE = 2_000;

/** A renewal that went as planned, and what programs do all the time. */
const isRoutine = (event: Event): boolean => event.routine === true || (event.kind === 'renewed' && event.data?.after_failures === 0);

/** A chain that this process writes. Routine renewals have one of their own, because they are kept for a shorter time. */
interface OwnChain {
  id: string;
  routine: boolean;
  point: ChainPoint;
}
interface Waiting {
  entry: Omit<EntryToAppend, 'chainId' | 'sequence' | 'hash'>;
  chain: OwnChain;
}

/** @param key authenticates the heads of chains; it is not in the database */
export function history(deps: {
  store: HistoryStore;
  chains: ChainStore;
  key: Uint8Array;
  stream: EntryStream | null;
  ports: Pick<Ports, 'clock' | 'random' | 'log'>;
}): History {
  const { store, chains, key, stream, ports } = deps;
  let waiting: Waiting[] = [];
  /** Chained, and not known to be written yet: a repeat writes the same. */
  let batch: EntryToAppend[] = [];
  let flushing: Promise<void> | null = null;
  let lost = 0;
  const newChain = (routine: boolean): OwnChain => {
    const id = recordId(ports);
    return { id, routine, point: chainStart(id) };
  };
  const own = { records: newChain(false), routine: newChain(true) };

  const chained = ({ entry, chain }: Waiting): EntryToAppend => {
    const placed = { ...entry, sequence: chain.point.sequence + 1 };
    const hash = entryHash(chain.point.hash, placed);
    chain.point = { sequence: placed.sequence, hash };
    return { ...placed, chainId: chain.id, hash };
  };
  const headsOf = (entries: readonly EntryToAppend[]) =>
    [own.records, own.routine]
      .filter((chain) => entries.some((entry) => entry.chainId === chain.id))
      .map(({ id, routine, point }) => ({ chainId: id, routine, point, proof: pointProof(key, id, 'head', point) }));
  const flush = async (): Promise<void> => {
    while (waiting.length > 0 || batch.length > 0) {
      if (batch.length === 0) {
        batch = waiting.slice(0, BATCH).map(chained);
        waiting = waiting.slice(batch.length);
      }
      await store.append(batch, headsOf(batch));
      stream?.write(batch);
      batch = [];
    }
  };
  const kick = (): Promise<void> => {
    flushing ??= flush()
      .catch((cause: unknown) =>
        ports.log[cause instanceof Fault && cause.code === 'DATABASE_UNAVAILABLE' ? 'debug' : 'warn'](
          { event: 'activity.waiting', cause: String(cause), waiting: waiting.length + batch.length },
          'history waits for the database',
        ),
      )
      .finally(() => {
        flushing = null;
      });
    return flushing;
  };
  const kinds = new Map<string, number>();
  const put = (event: Event, chain: OwnChain, routine: boolean): void => {
    if (waiting.length >= MAX_WAITING) {
      lost += 1;
      if (lost % 1000 === 1) ports.log.error({ event: 'activity.lost', lost }, 'history is full while the database is away: entries are being lost');
      return;
    }
    kinds.set(event.kind, (kinds.get(event.kind) ?? 0) + 1);
    const request = currentRequest();
    const { actor, kind, subject, says } = event;
    waiting.push({
      chain,
      entry: {
        id: recordId(ports),
        at: ports.clock.now(),
        actor: actor.slice(0, ENTRY_LIMITS.actor),
        kind: kind.slice(0, ENTRY_LIMITS.kind),
        subject: subject.slice(0, ENTRY_LIMITS.subject),
        says: says.slice(0, ENTRY_LIMITS.says),
        data: JSON.stringify(event.data ?? {}),
        routine,
        requestId: request?.requestId.slice(0, ENTRY_LIMITS.requestId) ?? null,
        address: request?.address.slice(0, ENTRY_LIMITS.address) ?? null,
      },
    });
  };
  /** Heads as they were named last: one that has not moved since is not named again. */
  const named = new Map<string, number>();
  /** Names the heads of all chains in one of them: none of them can go missing as a whole, or be cut back, unnoticed. */
  const anchor = async (kind: string, says: string): Promise<void> => {
    const heads = (await chains.heads()).filter(({ chainId, point }) => point.sequence > (named.get(chainId) ?? 0)).slice(-MAX_ANCHORS);
    for (const { chainId, point } of heads) named.set(chainId, point.sequence);
    const anchors = heads.map(({ chainId, point }) => ({ chain: chainId, sequence: point.sequence, hash: point.hash.toString('hex') }));
    put({ actor: 'service', kind, subject: 'installation', says, data: { anchors } }, own.records, true);
  };
  const anchored = (kind: string, says: string) =>
    anchor(kind, says).catch((cause: unknown) =>
      ports.log.warn({ event: 'activity.not_anchored', cause: String(cause) }, 'the chains of the activity log were not joined'),
    );
  void anchored('service_started', 'The service started.');
  const timer = setInterval(() => void (waiting.length + batch.length > 0 && kick()), FLUSH_MS).unref();
  const anchoring = setInterval(() => void anchored('activity_anchored', 'Joined the chains of the activity log.'), ANCHOR_EVERY_MS).unref();

  return {
    add: (event) => (isRoutine(event) ? put(event, own.routine, true) : put(event, own.records, false)),
    async list(filter) {
      await kick();
      const found = await store.list(filter);
      if (!found) throw new Fault('NOT_FOUND', { detail: 'No entry of the history has this id: it may be older than what is kept.' });
      return found;
    },
    async renewals(subjects, since, most) {
      const found = new Map<string, number[]>(subjects.map((subject) => [subject, []]));
      if (subjects.length === 0) return found;
      for (const row of await store.renewals(subjects, since, most * subjects.length)) {
        const instants = found.get(row.subject);
        if (instants && instants.length < most) instants.push(row.at);
      }
      return found;
    },
    counts: (of, since) => store.counts(of, since),
    counted: () => kinds,
    async forget({ renewalsMs, allMs }) {
      const now = ports.clock.now();
      let removed = await chains.cutUnchained('renewals', now - renewalsMs, FORGOTTEN_AT_ONCE);
      removed += await chains.cutUnchained('all', now - allMs, FORGOTTEN_AT_ONCE);
      for (const chain of await chains.list()) {
        const point = await chains.lastOlder(chain, now - (chain.routine ? renewalsMs : allMs), FORGOTTEN_AT_ONCE);
        if (point) removed += await chains.cut(chain.id, point, pointProof(key, chain.id, 'base', point));
        if (removed >= FORGOTTEN_AT_ONCE) break;
      }
      return removed;
    },
    async stop() {
      clearInterval(timer);
      clearInterval(anchoring);
      for (let tries = 0; tries < 5 && waiting.length + batch.length > 0; tries += 1) {
        await kick();
        if (waiting.length + batch.length > 0) await sleep(200);
      }
      await stream?.stop();
    },
  };
}
