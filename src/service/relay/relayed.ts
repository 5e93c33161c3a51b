import { needsOf } from '../../core/calls/needs.ts';
import { diagnoseCall } from '../../core/diagnosis/call.ts';
import type { Diagnosis } from '../../core/diagnosis/diagnosis.ts';
import { Fault } from '../../core/fault.ts';
import type { Api } from '../../core/provider/api.ts';
import type { Ports } from '../ports.ts';
import type { RelayedStore } from '../store/relayed.ts';
import type { PermittedConnection } from '../tokens/index.ts';
import type { Sent } from './relay-send.ts';

/** A call as the relay knows it; its query and body are never kept. */
interface RelayedCall {
  caller: { id: string };
  connection: Pick<PermittedConnection, 'id' | 'scope' | 'setUp'>;
  api: Api;
  method: string;
  path: string;
}

/**
 * How relayed calls went, per caller and connection: counts by class of status for each hour, the last call, and the last one that failed
 * with its verdict. Written every 5 s, kept for a day: a crash may lose 5 s.
 */
export interface Relayed {
  note(call: RelayedCall, sent: Sent): void;
  stop(): Promise<void>;
}

const FLUSH_MS = 5_000;
const HOUR_MS = 3_600_000;
/** Between two flushes; beyond it, only counts of those that are known go on. */
const MAX_PAIRS = 20_000;
const PAIRS_AT_ONCE = 100;
const MAX_PATH = 300;

interface Last {
  at: number;
  status: number | null;
  method: string;
  path: string;
  verdict: Diagnosis | null;
}
interface Pair {
  callerId: string;
  connectionId: string;
  /** By hour (epoch ms) plus class: 0 for no answer, else the first digit of the status. */
  counts: Map<number, number>;
  last: Last | null;
  failed: Last | null;
}
/** A caller knows a connection by one object; one that was read again is another, and adds up in the database. */
type Pairs = Map<RelayedCall['connection'], Pair>;

export function relayed(deps: { store: RelayedStore; ports: Pick<Ports, 'clock' | 'log'> }): Relayed {
  const { store, ports } = deps;
  let pairs: Pairs = new Map();

  const write = async (some: readonly Pair[]): Promise<void> => {
    const lasts = some.flatMap((pair) => [...(pair.last ? [row(pair, 'last', pair.last)] : []), ...(pair.failed ? [row(pair, 'failed', pair.failed)] : [])]);
    // The last calls first: whoever sees a call counted sees what came of it.
    if (lasts.length > 0) await store.keep(lasts);
    const counts = some.flatMap(({ callerId, connectionId, counts }) =>
      [...counts].map(([at, count]) => ({ callerId, connectionId, hour: Math.floor(at / HOUR_MS) * HOUR_MS, group: at % HOUR_MS, count })),
    );
    if (counts.length > 0) await store.count(counts);
    for (const pair of some) pair.counts.clear(); // written: a later failure does not count it twice
  };
  /** What could not be written waits beside what came since. */
  const putBack = (connection: RelayedCall['connection'], pair: Pair): void => {
    const newer = pairs.get(connection);
    if (!newer) {
      if (pairs.size < MAX_PAIRS) pairs.set(connection, pair);
      return;
    }
    for (const [at, count] of pair.counts) newer.counts.set(at, (newer.counts.get(at) ?? 0) + count);
    newer.last ??= pair.last;
    newer.failed ??= pair.failed;
  };
  const writeOrKeep = async (some: [RelayedCall['connection'], Pair][]): Promise<void> => {
    try {
      await write(some.map(([, pair]) => pair));
    } catch (cause) {
      ports.log.debug({ event: 'relay.notes_waiting', cause: String(cause) }, 'what the relay saw waits for the database');
      const isAway = cause instanceof Fault && cause.code === 'DATABASE_UNAVAILABLE';
      if (isAway || some.length === 1) for (const [connection, pair] of some) putBack(connection, pair);
      else for (const one of some) await writeOrKeep([one]); // one that does not fit harms no other
    }
  };
  const flush = async (): Promise<void> => {
    const going = [...pairs];
    pairs = new Map();
    for (let from = 0; from < going.length; from += PAIRS_AT_ONCE) await writeOrKeep(going.slice(from, from + PAIRS_AT_ONCE));
  };
  let flushing: Promise<void> | null = null;
  const kick = (): Promise<void> => {
    flushing ??= flush().finally(() => {
      flushing = null;
    });
    return flushing;
  };
  const timer = setInterval(() => void (pairs.size > 0 && kick()), FLUSH_MS).unref();
  return {
    note(call, sent) {
      if (sent.end === 'hung_up' || sent.end === 'held') return; // nobody waits for what came of it
      const now = ports.clock.now();
      let pair = pairs.get(call.connection);
      if (!pair) {
        if (pairs.size >= MAX_PAIRS) return;
        pair = { callerId: call.caller.id, connectionId: call.connection.id, counts: new Map(), last: null, failed: null };
        pairs.set(call.connection, pair);
      }
      const status = sent.end === 'done' ? sent.status : null;
      const counted = Math.floor(now / HOUR_MS) * HOUR_MS + (status === null ? 0 : Math.floor(status / 100));
      pair.counts.set(counted, (pair.counts.get(counted) ?? 0) + 1);
      const verdict = verdictOf(call, sent, now);
      pair.last = { at: now, status, method: call.method, path: call.path, verdict };
      if (verdict || status === null || status >= 400) pair.failed = pair.last;
    },
    async stop() {
      clearInterval(timer);
      await kick();
      await kick(); // what came while the first ran
    },
  };
}

const row = ({ callerId, connectionId }: Pair, kind: 'last' | 'failed', { verdict, path, ...last }: Last) => ({
  ...{ callerId, connectionId, kind, ...last },
  path: path.slice(0, MAX_PATH),
  cause: verdict?.cause ?? null,
  says: verdict?.title.slice(0, 300) ?? null,
  remedy: verdict?.remedy.slice(0, 500) ?? null,
});

/** What the answer means, as a call from here would say it; null: it is good. */
function verdictOf(call: RelayedCall, sent: Exclude<Sent, { end: 'hung_up' } | { end: 'held' }>, now: number): Diagnosis | null {
  const { definition } = call.connection.setUp;
  if (sent.end === 'done' && sent.status < 400 && sent.seen === undefined) return null;
  const seen = sent.end === 'done' ? sent.seen : undefined;
  const header = (name: string): string | null => {
    const value = seen?.headers[name];
    return (Array.isArray(value) ? value[0] : value) ?? null;
  };
  const isPlain = header('content-encoding') === null;
  const scopes = call.connection.scope.split(' ').filter(Boolean);
  const retry = header('retry-after');
  return diagnoseCall({
    definition,
    api: call.api,
    status: sent.end === 'done' ? sent.status : null,
    reason: sent.end === 'slow' ? 'timeout' : sent.end === 'broke' ? 'reset' : null,
    body: isPlain ? (seen?.start.toString('utf8') ?? '') : '',
    challenge: header('www-authenticate'),
    retryAfterSeconds: retry !== null && /^\d{1,6}$/.test(retry) ? Number(retry) : null,
    needs: needsOf(call.api, call.method, `${call.api.base_url.replace(/\/$/, '')}${call.path}`),
    scopesRequested: scopes,
    scopesGranted: scopes,
    claims: null,
    ofClient: false,
    byCertificate: false,
    now,
  });
}
