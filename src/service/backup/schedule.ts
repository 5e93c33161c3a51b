import { rm } from 'node:fs/promises';
import { join } from 'node:path';
import { Fault } from '../../core/fault.ts';
import { runPeriodically } from '../run-periodically.ts';
import type { BackupParts } from './parts.ts';
import { begin, folderOf } from './writing.ts';

const EVERY_MS = 30_000;
const HOUR_MS = 3_600_000;
/** After one that failed. */
const AGAIN_MS = 15 * 60_000;

/** Makes scheduled backups when they are due, and deletes the oldest. Several replicas may look; one writes. */
export const keepBackups = (s: BackupParts, stop: AbortSignal): Promise<void> =>
  runPeriodically({ ports: s.ports, everyMs: EVERY_MS, failed: 'scheduled backups were not looked at; retrying', stop }, async () => {
    const plan = await s.store.backups.plan();
    if (plan === null || s.hold.isHeld()) return false; // an installation that must stop overwrites no good backups
    const rows = (await s.store.backups.list()).filter((row) => row.kind === 'scheduled');
    const now = s.ports.clock.now();
    const good = rows.filter((row) => row.state === 'done');
    const [last] = rows;
    const waits = last === undefined ? 0 : last.state === 'failed' ? Math.min(AGAIN_MS, plan.everyHours * HOUR_MS) : plan.everyHours * HOUR_MS;
    if (last === undefined || now - last.startedAt >= waits)
      await begin(s, { lock: { recipient: plan.recipient }, results: plan.results, move: false, kind: 'scheduled', by: 'service' }).catch((cause: unknown) => {
        if (!(cause instanceof Fault && cause.code === 'IN_USE')) throw cause; // another replica was first
      });
    const failed = rows.filter((row) => row.state === 'failed').slice(plan.keep);
    for (const row of [...good.slice(plan.keep), ...failed]) {
      if (row.instance !== s.instanceId) continue; // its own replica deletes its file
      await rm(join(folderOf(s), row.file), { force: true });
      await s.store.backups.remove(row.id);
    }
    return false;
  });
