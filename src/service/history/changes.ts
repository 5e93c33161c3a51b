import { type Ports, recordId } from '../ports.ts';
import type { ChangeKind, ChangeStore } from '../store/changes.ts';

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

export function changes(deps: { store: ChangeStore; ports: Pick<Ports, 'clock' | 'random' | 'log'> }): Changes {
  const { store, ports } = deps;
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
      const rows = await store.since(from);
      seenAt = performance.now();
      const known = seen;
      seen = new Map(rows.map((row) => [row.id, row.at]));
      for (const row of rows) if (!known.has(row.id) && !mine.delete(row.id)) tell(row.kind, row.subject);
      // After a longer blindness the window may have passed over something: everything is in doubt.
      if (wasBlindMs > OVERLAP_MS - POLL_MS * 4) tell('connection', '*');
      rounds += 1;
      if (rounds % 1000 === 0) await store.deleteBefore(ports.clock.now() - KEPT_MS);
    } catch (cause) {
      ports.log.debug({ event: 'changes.not_read', cause: String(cause) }, 'changes not read');
    }
    if (!stopped) setTimeout(() => void poll(), POLL_MS).unref();
  };
  void poll();
  return {
    async announce(kind, subject) {
      const id = recordId(ports);
      mine.add(id);
      tell(kind, subject);
      await store.add({ id, kind, subject });
    },
    onChange: (listener) => void listeners.push(listener),
    blindMs: () => performance.now() - seenAt,
    stop: () => {
      stopped = true;
    },
  };
}
