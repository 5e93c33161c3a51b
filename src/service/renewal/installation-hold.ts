import type { Changes, History } from '../history/index.ts';
import type { Ports } from '../ports.ts';
import type { InstallationStore } from '../store/installation.ts';

/**
 * Two installations that renew the same rotating grants kill them one after another. Where that seems to happen, every renewal that
 * could spend a refresh token is held until an operator says that this installation owns the grants.
 */
export interface InstallationHold {
  isHeld(): boolean;
  state(): Promise<{ held: boolean; why: string | null; heldAt: number | null }>;
  /** A rotating grant was rejected for good although nothing about it was uncertain. */
  noteRefused(): Promise<void>;
  /** Holds renewals until someone says that this installation owns the grants. */
  hold(why: string): Promise<void>;
  /** Another installation of this origin was seen with this generation: whoever takes over here must be above it. */
  noteGeneration(generation: number): void;
  /** An operator says that this installation owns the grants. */
  own(operator: string): Promise<void>;
}

const WINDOW_MS = 10 * 60_000;
const MAX_REFUSED = 3;

export async function installationHold(deps: {
  store: InstallationStore;
  changes: Changes;
  history: History;
  /** The data folder knows of saves, and this database has all of them: it is the same one, wherever it runs. */
  isContinued: boolean;
  ports: Pick<Ports, 'clock' | 'log'>;
}): Promise<InstallationHold> {
  const { store, changes, history, ports } = deps;
  let held = false;
  let seenGeneration = 0;
  const read = async () => {
    const row = await store.read();
    held = row?.held ?? false;
    return { held, why: row?.heldWhy ?? null, heldAt: row?.heldAt ?? null, fingerprint: row?.fingerprint ?? '' };
  };
  const hold = async (why: string): Promise<void> => {
    held = true;
    if (!(await store.hold(why))) {
      // It is on hold already: the newer reason is the one to act on.
      if ((await store.read())?.heldWhy === why) return;
      await store.change({ heldWhy: why });
    }
    ports.log.error(
      { event: 'renewals.held', why },
      'RENEWALS ARE HELD: run `rk installation own` once it is certain that no other installation renews these grants',
    );
    history.add({ actor: 'service', kind: 'installation_held', subject: 'installation', says: why });
    await changes.announce('installation', 'held');
  };
  changes.onChange((kind, subject) => {
    if (kind === 'installation' || subject === '*')
      void read().catch((cause: unknown) => ports.log.debug({ event: 'renewals.hold_not_read', cause: String(cause) }, 'hold not read; it stays as it was'));
  });

  const before = await read();
  const fingerprint = await store.fingerprint();
  if (before.fingerprint !== fingerprint && deps.isContinued) {
    await store.change({ fingerprint });
    const says = 'The database runs on another server than before, and has everything that this replica saved: renewals go on.';
    history.add({ actor: 'service', kind: 'database_moved', subject: 'installation', says });
  } else if (before.fingerprint !== fingerprint)
    await hold('The database runs on another server than before. If the former installation still runs somewhere, both would spend the same refresh tokens.');
  return {
    isHeld: () => held,
    hold,
    noteGeneration(generation) {
      seenGeneration = Math.max(seenGeneration, generation);
    },
    state: async () => {
      const { why, heldAt } = await read();
      return { held, why: held ? why : null, heldAt: held ? heldAt : null };
    },
    async noteRefused() {
      const seen = await store.refusedAndRenewed(ports.clock.now() - WINDOW_MS);
      const refused = seen.refused + 1; // the present one is not written yet
      if (refused < MAX_REFUSED || refused <= seen.renewed) return;
      await hold(
        `${refused} connections had their newest refresh token rejected within ten minutes, more than were renewed. That is how it looks when a second installation renews the same grants.`,
      );
    },
    async own(operator) {
      await store.own(fingerprint, seenGeneration + 1);
      held = false;
      history.add({
        actor: operator,
        kind: 'installation_owned',
        subject: 'installation',
        says: 'This installation owns the grants; renewals go on.',
      });
      await changes.announce('installation', 'owned');
    },
  };
}
