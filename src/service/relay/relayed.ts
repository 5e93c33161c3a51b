import { needsOf } from '../../core/calls/needs.ts';
import { diagnoseCall } from '../../core/diagnosis/call.ts';
import type { Diagnosis } from '../../core/diagnosis/diagnosis.ts';
import type { Api } from '../../core/provider/api.ts';
import type { Ports } from '../ports.ts';
import type { RelayedRow, RelayedStore } from '../store/relayed.ts';
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
const PAIRS_MOST = 20_000;
const PATH_MOST = 300;

interface Last extends RelayedRow {
  at: number;
}
interface Pair {
  callerId: string;
  connectionId: string;
  /** By hour (epoch ms) and class: 0 for no answer, else the first digit of the status. */
  counts: Map<string, number>;
  last: Last | null;
  failed: Last | null;
}

export function relayed(deps: { store: RelayedStore; ports: Pick<Ports, 'clock' | 'log'> }): Relayed {
  const { store, ports } = deps;
  let pairs = new Map<string, Pair>();

  const write = async (pair: Pair): Promise<void> => {
    // The last calls first: whoever sees a call counted sees what came of it.
    if (pair.last) await store.keep(pair, 'last', pair.last.at, pair.last);
    if (pair.failed) await store.keep(pair, 'failed', pair.failed.at, pair.failed);
    for (const [key, count] of pair.counts) {
      const [hour = '0', group = '0'] = key.split(' ');
      await store.count(pair, Number(hour), Number(group), count);
      pair.counts.delete(key); // written: a later failure does not count it twice
    }
  };
  const flush = async (): Promise<void> => {
    const going = pairs;
    pairs = new Map();
    for (const [key, pair] of going) {
      try {
        await write(pair);
      } catch (cause) {
        ports.log.debug({ event: 'relay.notes_waiting', cause: String(cause) }, 'what the relay saw waits for the database');
        if (pairs.size < PAIRS_MOST && !pairs.has(key)) pairs.set(key, pair);
      }
    }
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
      const key = `${call.caller.id} ${call.connection.id}`;
      let pair = pairs.get(key);
      if (!pair) {
        if (pairs.size >= PAIRS_MOST) return;
        pair = { callerId: call.caller.id, connectionId: call.connection.id, counts: new Map(), last: null, failed: null };
        pairs.set(key, pair);
      }
      const status = sent.end === 'done' ? sent.status : null;
      const counted = `${Math.floor(now / HOUR_MS) * HOUR_MS} ${status === null ? 0 : Math.floor(status / 100)}`;
      pair.counts.set(counted, (pair.counts.get(counted) ?? 0) + 1);
      const verdict = verdictOf(call, sent, now);
      const last: Last = {
        at: now,
        status,
        method: call.method,
        path: call.path.slice(0, PATH_MOST),
        cause: verdict?.cause ?? null,
        says: verdict?.title.slice(0, 300) ?? null,
        remedy: verdict?.remedy.slice(0, 500) ?? null,
      };
      pair.last = last;
      if (verdict || status === null || status >= 400) pair.failed = last;
    },
    async stop() {
      clearInterval(timer);
      await kick();
      await kick(); // what came while the first ran
    },
  };
}

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
