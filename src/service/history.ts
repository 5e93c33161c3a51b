import { setTimeout as sleep } from 'node:timers/promises';
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

export interface StoredEvent extends Required<Event> {
  id: string;
  at: number;
}

/** Append-only. Written in batches behind the work; bounded, and kept in memory while the database is away. */
export interface History {
  add(event: Event): void;
  list(filter: { subject?: string | undefined; limit: number }): Promise<StoredEvent[]>;
  /** Renewals since `since` (epoch ms), newest first, for each subject. */
  renewals(subjects: string[], since: number, most: number): Promise<Map<string, number[]>>;
  counts(kinds: string[], since: number): Promise<Record<string, number>>;
  stop(): Promise<void>;
}

const FLUSH_MS = 250;
const BATCH = 200;
const WAITING_MOST = 20_000;

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
        ];
        return `(${values.map((value) => `$${bind.push(value)}`).join(', ')})`;
      });
      // IGNORE: an unacknowledged insert is repeated with the same ids
      await database.write(`INSERT IGNORE INTO history (id, at, actor, kind, subject, says, data) VALUES ${rows.join(', ')}`, bind);
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
    async list({ subject, limit }) {
      await kick();
      const where = subject ? 'WHERE subject = $1' : '';
      const rows = await database.select<Record<'id' | 'at' | 'actor' | 'kind' | 'subject' | 'says' | 'data', unknown>>(
        `SELECT id, at, actor, kind, subject, says, data FROM history ${where} ORDER BY at DESC, id DESC LIMIT ${Math.floor(limit)}`,
        subject ? [subject] : undefined,
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
    async stop() {
      clearInterval(timer);
      for (let tries = 0; tries < 5 && waiting.length > 0; tries += 1) {
        await kick();
        if (waiting.length > 0) await sleep(200);
      }
    },
  };
}
