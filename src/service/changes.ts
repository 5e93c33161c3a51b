import { type Ports, recordId } from './ports.ts';
import { type Database, idBytes, idText, instantText } from './store/database.ts';

/** Kinds of change that other replicas must hear of soon. */
export type ChangeKind = 'caller' | 'connection' | 'client' | 'provider' | 'installation' | 'quota';

/** Tells the other replicas what changed, and hears it from them: a table, polled by time with an overlap, deduplicated. */
export interface Changes {
  /** `subject`: the name of the caller, connection, client or provider. */
  announce(kind: ChangeKind, subject: string): Promise<void>;
  onChange(listener: (kind: ChangeKind, subject: string) => void): void;
  /** How long ago the database last answered, in ms. */
  blindMs(): number;
  stop(): void;
}

const POLL_MS = 300;
const OVERLAP_MS = 15_000;
const KEPT_MS = 3_600_000;

export function changes(deps: { database: Database; ports: Pick<Ports, 'clock' | 'random' | 'log'> }): Changes {
  const { database, ports } = deps;
  const listeners: ((kind: ChangeKind, subject: string) => void)[] = [];
  let seen = new Map<string, number>();
  /** Our own, told at once already. */
  const mine = new Set<string>();
  let seenAt = performance.now();
  let stopped = false;
  let rounds = 0;
  const tell = (kind: ChangeKind, subject: string) => {
    for (const listener of listeners) listener(kind, subject);
  };
  const poll = async (): Promise<void> => {
    try {
      const from = ports.clock.now() - OVERLAP_MS;
      const wasBlindMs = performance.now() - seenAt;
      const rows = await database.select<{ id: Buffer; at: Date; kind: ChangeKind; subject: string }>(
        'SELECT id, at, kind, subject FROM changes WHERE at > $1 ORDER BY at',
        [instantText(from)],
      );
      seenAt = performance.now();
      const known = seen;
      seen = new Map(rows.map((row) => [idText(row.id), row.at.getTime()]));
      for (const row of rows) if (!known.has(idText(row.id)) && !mine.delete(idText(row.id))) tell(row.kind, row.subject);
      // After a longer blindness the window may have passed over something: everything is in doubt.
      if (wasBlindMs > OVERLAP_MS - POLL_MS * 4) tell('connection', '*');
      rounds += 1;
      if (rounds % 1000 === 0) await database.write('DELETE FROM changes WHERE at < $1 LIMIT 1000', [instantText(ports.clock.now() - KEPT_MS)]);
    } catch (cause) {
      ports.log.debug({ cause: String(cause) }, 'changes not read');
    }
    if (!stopped) setTimeout(() => void poll(), POLL_MS).unref();
  };
  void poll();
  return {
    async announce(kind, subject) {
      const id = recordId(ports);
      mine.add(id);
      tell(kind, subject);
      await database.write('INSERT INTO changes (id, at, kind, subject) VALUES ($1, UTC_TIMESTAMP(3), $2, $3)', [idBytes(id), kind, subject]);
    },
    onChange: (listener) => void listeners.push(listener),
    blindMs: () => performance.now() - seenAt,
    stop: () => {
      stopped = true;
    },
  };
}
