import { setTimeout as sleep } from 'node:timers/promises';
import { Fault } from '../core/fault.ts';
import { type Ports, recordId } from './ports.ts';
import { type Bind, type Database, idBytes, idText, instantText } from './store/database.ts';

/** One thing that happened. `data` holds figures and public names, never a secret. */
export interface Event {
  actor: string;
  kind: string;
  subject: string;
  says: string;
  data?: Record<string, unknown>;
}

/** What of the history is asked for, newest first. */
export interface HistoryFilter {
  subject?: string | undefined;
  kind?: string | undefined;
  /** Epoch ms. */
  since?: number | undefined;
  /** Only what came before the entry with this id. */
  before?: string | undefined;
  /** Also renewals that went as planned. */
  renewals?: boolean | undefined;
  limit: number;
}

export interface StoredEvent extends Required<Event> {
  id: string;
  at: number;
}

/** Append-only. Written in batches behind the work; bounded, and kept in memory while the database is away. */
export interface History {
  add(event: Event): void;
  list(filter: HistoryFilter): Promise<StoredEvent[]>;
  /** Renewals since `since` (epoch ms), newest first, for each subject. */
  renewals(subjects: string[], since: number, most: number): Promise<Map<string, number[]>>;
  counts(kinds: string[], since: number): Promise<Record<string, number>>;
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

export function history(deps: { database: Database; ports: Pick<Ports, 'clock' | 'random' | 'log'> }): History {
  const { database, ports } = deps;
  let waiting: StoredEvent[] = [];
  let flushing: Promise<void> | null = null;
  let lost = 0;

  const flush = async (): Promise<void> => {
    while (waiting.length > 0) {
      const batch = waiting.slice(0, BATCH);
      const bind: Bind[] = [];
      const rows = batch.map((event) => {
        const values = [
          idBytes(event.id),
          instantText(event.at),
          event.actor.slice(0, 80),
          event.kind,
          event.subject.slice(0, 200),
          event.says.slice(0, 600),
          JSON.stringify(event.data),
          Number(isRoutine(event)),
        ];
        return `(${values.map((value) => `$${bind.push(value)}`).join(', ')})`;
      });
      // IGNORE: an unacknowledged insert is repeated with the same ids
      await database.write(`INSERT IGNORE INTO history (id, at, actor, kind, subject, says, data, routine) VALUES ${rows.join(', ')}`, bind);
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
    async list({ subject, kind, since, before, renewals, limit }) {
      await kick();
      const bind: Bind[] = [];
      const all = [
        ...(subject ? [`subject = $${bind.push(subject)}`] : []),
        ...(kind ? [`kind = $${bind.push(kind)}`] : []),
        ...(since === undefined ? [] : [`at >= $${bind.push(instantText(since))}`]),
        ...(renewals || kind ? [] : ['routine = 0']),
      ];
      if (before !== undefined) {
        const [last] = await database.select<{ at: Date }>('SELECT at FROM history WHERE id = $1', [idBytes(before)]);
        if (!last) throw new Fault('NOT_FOUND', { detail: 'No entry of the history has this id: it may be older than what is kept.' });
        const at = instantText(last.at.getTime());
        all.push(`(at < $${bind.push(at)} OR (at = $${bind.push(at)} AND id < $${bind.push(idBytes(before))}))`);
      }
      const where = all.length > 0 ? `WHERE ${all.join(' AND ')}` : '';
      const rows = await database.select<Record<'id' | 'at' | 'actor' | 'kind' | 'subject' | 'says' | 'data', unknown>>(
        `SELECT id, at, actor, kind, subject, says, data FROM history ${where} ORDER BY at DESC, id DESC LIMIT ${Math.floor(limit)}`,
        bind,
      );
      return rows.map((row) => ({
        id: idText(row.id as Buffer),
        at: (row.at as Date).getTime(),
        actor: String(row.actor),
        kind: String(row.kind),
        subject: String(row.subject),
        says: String(row.says),
        data: JSON.parse(String(row.data)) as Record<string, unknown>,
      }));
    },
    async renewals(subjects, since, most) {
      const found = new Map<string, number[]>(subjects.map((subject) => [subject, []]));
      if (subjects.length === 0) return found;
      const bind: Bind[] = [instantText(since)];
      const list = subjects.map((subject) => `$${bind.push(subject)}`).join(', ');
      const rows = await database.select<{ subject: string; at: Date }>(
        `SELECT subject, at FROM history WHERE subject IN (${list}) AND at > $1 AND kind = 'renewed' ORDER BY at DESC LIMIT ${most * subjects.length}`,
        bind,
      );
      for (const row of rows) {
        const instants = found.get(row.subject);
        if (instants && instants.length < most) instants.push(row.at.getTime());
      }
      return found;
    },
    async counts(kinds, since) {
      const bind: Bind[] = [instantText(since)];
      const list = kinds.map((kind) => `$${bind.push(kind)}`).join(', ');
      const rows = await database.select<{ kind: string; n: number | bigint }>(
        `SELECT kind, COUNT(*) AS n FROM history WHERE at > $1 AND kind IN (${list}) GROUP BY kind`,
        bind,
      );
      return Object.fromEntries(rows.map((row) => [row.kind, Number(row.n)]));
    },
    async forget({ renewalsMs, allMs }) {
      const olderThan = (ms: number) => `at < UTC_TIMESTAMP(3) - INTERVAL ${Math.floor(ms / 1000)} SECOND`;
      const renewals = await database.write(`DELETE FROM history WHERE ${olderThan(renewalsMs)} AND kind = 'renewed' LIMIT ${FORGOTTEN_AT_ONCE}`);
      return renewals + (await database.write(`DELETE FROM history WHERE ${olderThan(allMs)} LIMIT ${FORGOTTEN_AT_ONCE}`));
    },
    async stop() {
      clearInterval(timer);
      for (let tries = 0; tries < 5 && waiting.length > 0; tries += 1) {
        await kick();
        if (waiting.length > 0) await sleep(200);
      }
    },
  };
}
