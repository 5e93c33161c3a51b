import { createHash } from 'node:crypto';
import { mkdir, open, rename, rm } from 'node:fs/promises';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { gzip } from 'node:zlib';
import { attempts } from '../../api/attempts.ts';
import { type BackupLock, backupWriter } from '../../core/backup/envelope.ts';
import { signBackup } from '../../core/backup/signature.ts';
import { Fault } from '../../core/fault.ts';
import { beyondRequest } from '../context.ts';
import { recordId } from '../ports.ts';
import type { BackupRow } from '../store/backups.ts';
import type { BackupParts } from './parts.ts';

const zipped = promisify(gzip);
/** Text in one encrypted line, before it is zipped. */
const LINE_BYTES = 1_000_000;
const BUSY_MS = 120_000;
const IDLE_MS = 60_000;

export const folderOf = (s: Pick<BackupParts, 'settings'>): string => s.settings.backupFolder ?? join(s.settings.dataFolder, 'backups');

export interface BackupOrder {
  lock: BackupLock;
  results: boolean;
  move: boolean;
  kind: BackupRow['kind'];
  by: string;
}

/** Begins a backup; it is written in the background. @throws {Fault} IN_USE while another is */
export async function begin(s: BackupParts, order: BackupOrder): Promise<BackupRow> {
  const now = s.ports.clock.now();
  const row: BackupRow = {
    ...{ id: recordId(s.ports), state: 'running', kind: order.kind, lockKind: 'passphrase' in order.lock ? 'passphrase' : 'recipient' },
    ...{ results: order.results, move: order.move, requestedBy: order.by, startedAt: now, endedAt: null, rowCount: 0, bytes: 0 },
    ...{
      file: `rusty-kettle-${new Date(now).toISOString().slice(0, 19).replaceAll(':', '')}Z.backup`,
      instance: s.instanceId,
      says: '',
      busyUntil: now + BUSY_MS,
    },
  };
  if (!(await s.store.backups.begin(row)))
    throw new Fault('IN_USE', { detail: 'A backup is being written.', remedy: 'Wait until it is done: `rk backup list`.' });
  void beyondRequest(() => write(s, row, order));
  return row;
}

/** Never rejects: what went wrong stands in the row. */
async function write(s: BackupParts, row: BackupRow, order: BackupOrder): Promise<void> {
  const end = async (set: Partial<BackupRow>): Promise<void> => {
    await s.store.backups.change(row.id, { ...set, endedAt: s.ports.clock.now(), busyUntil: null }).catch((cause: unknown) => {
      s.ports.log.error({ event: 'backup.not_recorded', cause: cause instanceof Error ? cause.message : 'unknown' }, 'how a backup ended was not recorded');
    });
  };
  try {
    if (order.move) await holdFirst(s);
    const { rows, bytes } = await writeFile(s, row, order);
    const says = order.move ? 'Renewals here are on hold: restore it elsewhere, or run `rk installation own` to go on here.' : '';
    await end({ state: 'done', rowCount: rows, bytes, says });
    s.history.add({ actor: row.requestedBy, kind: 'backup_made', subject: 'installation', says: `Made the backup ${row.file}: ${rows} rows, ${bytes} bytes.` });
  } catch (cause) {
    const why = cause instanceof Fault ? cause.message : cause instanceof Error ? ((cause as NodeJS.ErrnoException).code ?? cause.name) : 'unknown';
    s.ports.log.error({ event: 'backup.failed', why }, 'a backup failed');
    await end({ state: 'failed', says: `Failed: ${why}`.slice(0, 600) });
    s.history.add({ actor: row.requestedBy, kind: 'backup_failed', subject: 'installation', says: `The backup ${row.file} failed: ${why}`.slice(0, 500) });
  }
}

/** For a move: nothing is renewed after the backup, so nothing in it is outdated. @throws {Fault} INTERNAL where something stays under way */
async function holdFirst(s: BackupParts): Promise<void> {
  await s.hold.hold('A backup was made to move this installation. Restore it elsewhere; to go on here instead, run `rk installation own`.');
  await s.ports.sleep(1_500, s.stopping); // other replicas hear of it within a second
  await Promise.race([s.engine.idle(), s.ports.sleep(IDLE_MS, s.stopping)]);
  for await (const _ of attempts({ withinMs: IDLE_MS, everyMs: 200 })) {
    if (s.keeper.unsaved() === 0 && !(await s.store.renewals.underWay())) return;
  }
  throw new Fault('RENEWAL_PENDING', { detail: 'Renewals are still under way after a minute.', remedy: 'Start the backup again.' });
}

async function writeFile(s: BackupParts, row: BackupRow, order: BackupOrder): Promise<{ rows: number; bytes: number }> {
  const { lock, results } = order;
  const folder = folderOf(s);
  await mkdir(folder, { recursive: true, mode: 0o700 });
  const path = join(folder, row.file);
  const file = await open(`${path}.part`, 'wx', 0o600);
  try {
    const writer = await backupWriter(lock);
    let [rows, bytes, renewedAt] = [0, 0, s.ports.clock.now()];
    const digest = createHash('sha256');
    const put = async (line: string): Promise<void> => {
      digest.update(`${line}\n`);
      bytes += Buffer.byteLength(line) + 1;
      await file.write(`${line}\n`);
    };
    await put(writer.head);
    let text = `${JSON.stringify(await manifestOf(s, order))}\n`;
    const flush = async (last: boolean): Promise<void> => {
      await put(await writer.line(await zipped(text), last));
      text = '';
      if (s.ports.clock.now() - renewedAt < BUSY_MS / 4) return;
      renewedAt = s.ports.clock.now();
      await s.store.backups.change(row.id, { rowCount: rows, bytes, busyUntil: renewedAt + BUSY_MS });
    };
    for await (const part of s.store.snapshot.read({ results })) {
      if (s.stopping.aborted) throw new Fault('INTERNAL', { detail: 'The service was stopped.' });
      rows += part.rows.length;
      text += `${JSON.stringify(part)}\n`;
      if (text.length > LINE_BYTES) await flush(false);
    }
    if (text !== '') await flush(false);
    // The last line alone signs all before it.
    text = `${JSON.stringify({ end: true, rows, signed: signBackup(s.activityKey, digest.copy().digest()) })}\n`;
    await flush(true);
    await file.sync();
    await file.close();
    await rename(`${path}.part`, path);
    return { rows, bytes };
  } catch (error) {
    await file.close().catch(() => undefined); // closed already
    await rm(`${path}.part`, { force: true });
    throw error;
  }
}

/** The first line of what is encrypted. The master key goes along: without it, what is sealed stays sealed. */
async function manifestOf(s: BackupParts, { results, move }: Pick<BackupOrder, 'results' | 'move'>): Promise<object> {
  const installation = await s.store.installation.read();
  return {
    format: 'rusty-kettle-backup/1',
    version: s.version,
    made_at: new Date(s.ports.clock.now()).toISOString(),
    installation: installation?.installationId,
    generation: installation?.generation,
    public_url: s.settings.publicUrl,
    migrations: await s.store.snapshot.migrations(),
    master_key: Buffer.from(s.master.bytes).toString('base64'),
    results,
    move,
  };
}
