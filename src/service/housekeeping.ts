import { statfs } from 'node:fs/promises';
import { dirname } from 'node:path';
import { FORGOTTEN_AT_ONCE, type History } from './history/index.ts';
import { type Ports, recordId } from './ports.ts';
import type { SealedStore } from './sealed-documents.ts';
import type { Settings } from './settings.ts';

interface TidyParts {
  history: Pick<History, 'forget'>;
  instanceId: string;
  store: Pick<SealedStore, 'forecast' | 'invitations' | 'mails' | 'marks' | 'notices' | 'personEvents' | 'relayed' | 'sealFormer' | 'usage'>;
  settings: Pick<Settings, 'historyMs' | 'dataFolder' | 'outputFolder' | 'activityFile'>;
  ports: Pick<Ports, 'clock' | 'log' | 'random' | 'sleep'>;
}

const FIRST_AFTER_MS = 60_000;
const EVERY_MS = 3_600_000;
const BETWEEN_MS = 200;
/** Pieces in one round, so that a round ends. */
const MAX_PIECES = 500;
const DAY_MS = 86_400_000;
const RENEWALS_KEPT_MS = 30 * DAY_MS;
const USAGE_KEPT_DAYS = 35;
const EVENTS_KEPT_MS = 30 * DAY_MS;
const INVITATIONS_KEPT_MS = 30 * DAY_MS;

/** Deletes history and counts that are past their retention, in one round. */
async function tidy(s: TidyParts, stop: AbortSignal): Promise<void> {
  for (let piece = 0; piece < MAX_PIECES && !stop.aborted; piece += 1) {
    const forgotten =
      (await s.history.forget({ renewalsMs: RENEWALS_KEPT_MS, allMs: s.settings.historyMs })) +
      (await s.store.usage.deleteOld(USAGE_KEPT_DAYS, FORGOTTEN_AT_ONCE));
    await s.store.relayed.deleteOld(FORGOTTEN_AT_ONCE);
    await s.store.personEvents.deleteOld(EVENTS_KEPT_MS);
    await s.store.mails.deleteOld(EVENTS_KEPT_MS);
    await s.store.invitations.deleteOld(INVITATIONS_KEPT_MS);
    await s.store.marks.deleteOld(s.settings.historyMs);
    await s.store.notices.deleteOld(s.settings.historyMs);
    if (forgotten < FORGOTTEN_AT_ONCE) return;
    await s.ports.sleep(BETWEEN_MS, stop);
  }
}

/** Documents of an earlier version, until none is left. */
async function sealFormer({ store, ports }: TidyParts, stop: AbortSignal): Promise<void> {
  for (let piece = 0; piece < MAX_PIECES && !stop.aborted && (await store.sealFormer()) > 0; piece += 1) await ports.sleep(BETWEEN_MS, stop);
}

const MEGABYTE = 1_000_000;
/** Writes down how much room is left where this replica writes: the forecast sees from it when a disk will be full. */
async function measureDisks({ store, settings, instanceId, ports }: TidyParts): Promise<void> {
  const { dataFolder, outputFolder, activityFile } = settings;
  const at = ports.clock.now();
  const seen = new Set<string>();
  const levels: Parameters<typeof store.forecast.addDiskLevels>[0][number][] = [];
  for (const folder of [dataFolder, outputFolder, activityFile && dirname(activityFile)]) {
    const found = folder === null ? null : await statfs(folder).catch(() => null); // not made yet, or not reachable just now
    if (folder === null || found === null) continue;
    const { bavail, blocks, bsize, type } = found;
    const disk = `${type} ${blocks} ${bavail}`; // the same disk under another name
    if (seen.has(disk)) continue;
    seen.add(disk);
    const mb = (count: number): number => Math.floor((count * bsize) / MEGABYTE);
    levels.push({ id: recordId(ports), instance: instanceId, folder: folder.slice(0, 300), at, freeMb: mb(bavail), totalMb: mb(blocks) });
  }
  await store.forecast.addDiskLevels(levels);
}

/** Every hour. Several replicas may do it at once: what one has removed the other does not find. */
export async function keepTidy(s: TidyParts, stop: AbortSignal): Promise<void> {
  for (let waitMs = FIRST_AFTER_MS; !stop.aborted; waitMs = EVERY_MS) {
    await s.ports.sleep(waitMs, stop);
    if (stop.aborted) return;
    try {
      await tidy(s, stop);
      await measureDisks(s);
      // Not in the first round: replicas of the version before, which read no sealed document, may still be running beside this one.
      if (waitMs === EVERY_MS) await sealFormer(s, stop);
    } catch (cause) {
      s.ports.log.warn(
        { event: 'housekeeping.failed', cause: cause instanceof Error ? cause.message : 'unknown' },
        'old entries could not be deleted; retrying in an hour',
      );
    }
  }
}
