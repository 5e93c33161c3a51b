import { mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { endPrivateMariadb } from '../database/index.ts';
import type { Ports } from '../ports.ts';

const PREFIX = 'rusty-kettle-rehearsal-';
const OWNER = 'owner.json';

/** When a process was started, as the kernel counts it: with the id it names one process for good. Null: there is none. */
function startOf(pid: number): string | null {
  try {
    return readFileSync(`/proc/${pid}/stat`, 'utf8').split(') ')[1]?.split(' ')[19] ?? null;
  } catch {
    return null;
  }
}

/** A folder for the scratch database of one rehearsal, and who answers for it. @throws Error where none can be made */
export function newScratch(): string {
  const folder = mkdtempSync(join(tmpdir(), PREFIX));
  writeFileSync(join(folder, OWNER), JSON.stringify({ pid: process.pid, start: startOf(process.pid) }), { mode: 0o600 });
  return folder;
}

/** Ends a database server that was left in the folder, and removes the folder with its key. */
export async function removeScratch(folder: string): Promise<void> {
  await endPrivateMariadb(folder);
  rmSync(folder, { recursive: true, force: true });
}

/** Removes what rehearsals left whose service was killed: it could not do so itself. */
export async function sweepScratch({ log }: Pick<Ports, 'log'>): Promise<void> {
  for (const name of readdirSync(tmpdir()).filter((one) => one.startsWith(PREFIX))) {
    const folder = join(tmpdir(), name);
    if (isOwned(folder)) continue;
    try {
      await removeScratch(folder);
      log.info({ event: 'rehearsal.left_over_removed' }, 'what a killed rehearsal left was removed');
    } catch (cause) {
      log.warn({ event: 'rehearsal.left_over_stays', cause: cause instanceof Error ? cause.message : 'unknown' }, 'what a killed rehearsal left stays');
    }
  }
}

function isOwned(folder: string): boolean {
  try {
    const { pid, start } = JSON.parse(readFileSync(join(folder, OWNER), 'utf8')) as { pid: number; start: string | null };
    return start !== null && startOf(pid) === start;
  } catch {
    return false;
  }
}
