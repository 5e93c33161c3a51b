import type { Changes } from '../changes.ts';
import { databaseFingerprint } from '../database/fingerprint.ts';
import type { History } from '../history.ts';
import type { Ports } from '../ports.ts';
import { type Database, instantText } from '../store/database.ts';

/**
 * Two installations that renew the same rotating grants kill them one after another. Where that seems to happen, every renewal that
 * could spend a refresh token is held until an operator says that this installation owns the grants.
 */
export interface InstallationHold {
  isHeld(): boolean;
  state(): Promise<{ held: boolean; why: string | null; heldAt: number | null }>;
  /** A rotating grant was refused for good although nothing about it was uncertain. */
  noteRefused(): Promise<void>;
  /** An operator says that this installation owns the grants. */
  own(operator: string): Promise<void>;
}

const WINDOW_MS = 10 * 60_000;
const REFUSED_MOST = 3;

export async function installationHold(deps: {
  database: Database;
  changes: Changes;
  history: History;
  ports: Pick<Ports, 'clock' | 'log'>;
}): Promise<InstallationHold> {
  const { database, changes, history, ports } = deps;
  let held = false;
  const read = async () => {
    const [row] = await database.select<{ held: number; held_why: string | null; held_at: Date | null; fingerprint: string }>(
      'SELECT held, held_why, held_at, fingerprint FROM installations WHERE id = 1',
    );
    held = Number(row?.held ?? 0) === 1;
    return { held, why: row?.held_why ?? null, heldAt: row?.held_at?.getTime() ?? null, fingerprint: row?.fingerprint ?? '' };
  };
  const hold = async (why: string): Promise<void> => {
    held = true;
    const changed = await database.write('UPDATE installations SET held = 1, held_why = $1, held_at = UTC_TIMESTAMP(3) WHERE id = 1 AND held = 0', [why]);
    if (changed === 0) return;
    ports.log.error({ why }, 'RENEWALS ARE HELD: run `rk installation own` once it is certain that no other installation renews these grants');
    history.add({ actor: 'service', kind: 'installation_held', subject: 'installation', says: why });
    await changes.announce('installation', 'held');
  };
  changes.onChange((kind, subject) => {
    if (kind === 'installation' || subject === '*')
      void read().catch((cause: unknown) => ports.log.debug({ cause: String(cause) }, 'hold not read; it stays as it was'));
  });

  const before = await read();
  const fingerprint = await databaseFingerprint(database);
  if (before.fingerprint !== fingerprint)
    await hold('The database runs on another server than before. If the former installation still runs somewhere, both would spend the same refresh tokens.');
  return {
    isHeld: () => held,
    state: async () => {
      const { why, heldAt } = await read();
      return { held, why: held ? why : null, heldAt: held ? heldAt : null };
    },
    async noteRefused() {
      const since = instantText(ports.clock.now() - WINDOW_MS);
      const [row] = await database.select<{ refused: number | bigint; renewed: number | bigint }>(
        `SELECT COALESCE(SUM(h.kind = 'needs_person'), 0) AS refused, COALESCE(SUM(h.kind = 'renewed'), 0) AS renewed FROM history h, installations i
         WHERE i.id = 1 AND h.at > $1 AND (i.owned_at IS NULL OR h.at > i.owned_at)
           AND (h.kind = 'needs_person' AND JSON_VALUE(h.data, '$.unexplained') = 1 OR h.kind = 'renewed' AND JSON_VALUE(h.data, '$.rotated') = 1)`,
        [since],
      );
      const refused = Number(row?.refused ?? 0) + 1; // the present one is not written yet
      if (refused < REFUSED_MOST || refused <= Number(row?.renewed ?? 0)) return;
      await hold(
        `${refused} connections had their newest refresh token refused within ten minutes, more than were renewed. That is how it looks when a second installation renews the same grants.`,
      );
    },
    async own(operator) {
      await database.write('UPDATE installations SET held = 0, held_why = NULL, held_at = NULL, owned_at = UTC_TIMESTAMP(3), fingerprint = $1 WHERE id = 1', [
        fingerprint,
      ]);
      held = false;
      history.add({
        actor: operator,
        kind: 'installation_owned',
        subject: 'installation',
        says: 'Said that this installation owns the grants; renewals go on.',
      });
      await changes.announce('installation', 'owned');
    },
  };
}
