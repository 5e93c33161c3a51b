import { setTimeout as sleep } from 'node:timers/promises';
import { Fault } from '../../core/fault.ts';
import { type Ports, recordId } from '../ports.ts';
import type { HistoryFilter, HistoryRow, HistoryStore } from '../store/history.ts';

/** One thing that happened. `data` holds figures and public names, never a secret. */
interface Event {
  actor: string;
  kind: string;
  subject: string;
  says: string;
  data?: Record<string, unknown>;
}

/** Append-only. Written in batches behind the work; bounded, and kept in memory while the database is away. */
export interface History {
  add(event: Event): void;
  list(filter: HistoryFilter): Promise<HistoryRow[]>;
  /** Renewals since `since` (epoch ms), newest first, for each subject. */
  renewals(subjects: string[], since: number, most: number): Promise<Map<string, number[]>>;
  counts(kinds: string[], since: number): Promise<Partial<Record<string, number>>>;
  /** Forgets what is older than that, a piece at a time; how many entries. */
  forget(olderThan: { renewalsMs: number; allMs: number }): Promise<number>;
  stop(): Promise<void>;
}

const FLUSH_MS = 250;
const BATCH = 200;
const WAITING_MOST = 20_000;
/** So many rows in one statement, so that none holds others up. */
export const FORGOTTEN_AT_ONCE = 2_000;

/** A renewal that went as planned. */
const isRoutine = (event: Event): boolean => event.kind === 'renewed' && event.data?.after_failures === 0;

export function history(deps: { store: HistoryStore; ports: Pick<Ports, 'clock' | 'random' | 'log'> }): History {
  const { store, ports } = deps;
  let waiting: HistoryRow[] = [];
  let flushing: Promise<void> | null = null;
  let lost = 0;

  const flush = async (): Promise<void> => {
    while (waiting.length > 0) {
      const batch = waiting.slice(0, BATCH);
      await store.append(batch.map((event) => ({ ...event, routine: isRoutine(event) })));
      waiting = waiting.slice(batch.length);
    }
  };
  const kick = (): Promise<void> => {
    flushing ??= flush()
      .catch((cause: unknown) => ports.log.warn({ cause: String(cause), waiting: waiting.length }, 'history waits for the database'))
      .finally(() => {
        flushing = null;
      });
    return flushing;
  };
  const timer = setInterval(() => void (waiting.length > 0 && kick()), FLUSH_MS).unref();

  return {
    add(event) {
      if (waiting.length >= WAITING_MOST) {
        lost += 1;
        if (lost % 1000 === 1) ports.log.error({ lost }, 'history is full while the database is away: entries are being lost');
        return;
      }
      waiting.push({ id: recordId(ports), at: ports.clock.now(), data: {}, ...event });
    },
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
    counts: (kinds, since) => store.counts(kinds, since),
    forget: async ({ renewalsMs, allMs }) =>
      (await store.deleteOld('renewals', renewalsMs, FORGOTTEN_AT_ONCE)) + (await store.deleteOld('all', allMs, FORGOTTEN_AT_ONCE)),
    async stop() {
      clearInterval(timer);
      for (let tries = 0; tries < 5 && waiting.length > 0; tries += 1) {
        await kick();
        if (waiting.length > 0) await sleep(200);
      }
    },
  };
}
