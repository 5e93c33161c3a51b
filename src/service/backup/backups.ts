import { createReadStream, type ReadStream } from 'node:fs';
import { rm } from 'node:fs/promises';
import { join } from 'node:path';
import type { Backup, BackupPlanShown, PracticeRestore } from '../../api/backups.ts';
import { readRecipient } from '../../core/backup/envelope.ts';
import { practiceFaults } from '../../core/backup/practice.ts';
import { signerOf } from '../../core/backup/signature.ts';
import { Fault } from '../../core/fault.ts';
import { iso, isoOrNull } from '../iso.ts';
import type { Command } from '../operation-call.ts';
import type { BackupRow } from '../store/backups.ts';
import type { BackupParts } from './parts.ts';
import { begin, folderOf } from './writing.ts';

const view = (row: BackupRow, now: number): Backup => {
  const isBroken = row.state === 'running' && row.busyUntil !== null && row.busyUntil < now;
  return {
    ...{ id: row.id, state: isBroken ? 'failed' : row.state, kind: row.kind, lock: row.lockKind, results: row.results, requested_by: row.requestedBy },
    ...{ started_at: iso(row.startedAt), ended_at: isoOrNull(row.endedAt), rows: row.rowCount, bytes: row.bytes, file: row.file },
    says: isBroken ? 'Broken off: the replica that wrote it stopped.' : row.says,
  };
};

export const listBackups = async (s: BackupParts): Promise<{ items: Backup[] }> => ({
  items: (await s.store.backups.list()).map((row) => view(row, s.ports.clock.now())),
});

async function found(s: BackupParts, id: string): Promise<BackupRow> {
  const row = /^[0-9a-f-]{36}$/.test(id) ? await s.store.backups.byId(id) : null;
  if (!row) throw new Fault('NOT_FOUND', { detail: `Backup "${id.slice(0, 40)}" not found.` });
  return row;
}
export const showBackup = async (s: BackupParts, id: string): Promise<Backup> => view(await found(s, id), s.ports.clock.now());

export async function startBackup(s: BackupParts, { body, actor }: Command<'startBackup'>): Promise<Backup> {
  const { passphrase, recipient, results, move } = body;
  if (recipient !== undefined) await readRecipient(recipient);
  const lock = passphrase === undefined ? { recipient: recipient ?? '' } : { passphrase };
  const row = await begin(s, { lock, results, move, kind: 'manual', by: actor.operator.name });
  return view(row, s.ports.clock.now());
}

/** The file, where it lies at this replica. @throws {Fault} NOT_FOUND, IN_USE */
export async function backupFile(s: BackupParts, id: string): Promise<{ row: BackupRow; stream: ReadStream }> {
  const row = await found(s, id);
  if (row.state !== 'done') throw new Fault('IN_USE', { detail: 'The backup is not done.', remedy: 'Wait until it is: `rk backup show`.' });
  if (row.instance !== s.instanceId)
    throw new Fault('NOT_FOUND', {
      detail: `Its file lies in the folder of another replica, as ${row.file}.`,
      remedy: 'Copy it from that replica, or ask it.',
    });
  const stream = createReadStream(join(folderOf(s), row.file));
  await new Promise((resolve, reject) => {
    stream.once('open', resolve);
    stream.once('error', () => reject(new Fault('NOT_FOUND', { detail: `The file ${row.file} is not in the backup folder any more.` })));
  });
  return { row, stream };
}

export async function removeBackup(s: BackupParts, { params, actor }: Command<'removeBackup'>): Promise<{ done: true }> {
  const row = await found(s, params.backup);
  if (row.instance === s.instanceId) await rm(join(folderOf(s), row.file), { force: true });
  await s.store.backups.remove(row.id);
  s.history.add({ actor: actor.operator.name, kind: 'backup_removed', subject: 'installation', says: `Deleted the backup ${row.file}.` });
  return { done: true };
}

export async function showBackupPlan(s: BackupParts): Promise<BackupPlanShown> {
  const [plan, rows] = await Promise.all([s.store.backups.plan(), s.store.backups.list()]);
  const good = rows.find((row) => row.state === 'done');
  const last = rows.find((row) => row.kind === 'scheduled');
  return {
    signer: signerOf(s.activityKey),
    plan: plan && { every_hours: plan.everyHours, keep: plan.keep, recipient: plan.recipient, results: plan.results },
    last_good_at: isoOrNull(good?.endedAt ?? null),
    next_at: plan && iso(Math.max(s.ports.clock.now(), (last?.startedAt ?? 0) + plan.everyHours * 3_600_000)),
    folder: folderOf(s),
  };
}

export async function setBackupPlan(s: BackupParts, { body, actor }: Command<'setBackupPlan'>): Promise<BackupPlanShown> {
  await readRecipient(body.recipient);
  await s.store.backups.setPlan({ everyHours: body.every_hours, keep: body.keep, recipient: body.recipient, results: body.results });
  const says = `Set the schedule of backups: every ${body.every_hours} hours, ${body.keep} are kept.`;
  s.history.add({ actor: actor.operator.name, kind: 'backup_plan_changed', subject: 'installation', says });
  return showBackupPlan(s);
}

/** Keeps what a practice restore found: notices and the console show it. */
export async function reportPractice(s: BackupParts, { body, actor }: Command<'reportPractice'>): Promise<PracticeRestore> {
  const faults = body.facts === null ? [body.failed ?? 'It could not be restored.'] : practiceFaults(body.facts);
  const kept = { at: s.ports.clock.now(), by: actor.operator.name, good: faults.length === 0, faults, file: body.file, facts: body.facts };
  await s.store.backups.setPracticed(kept);
  const says = kept.good ? `Practice restore of ${body.file}: good.` : `Practice restore of ${body.file}: ${faults.join(' ')}`;
  s.history.add({ actor: actor.operator.name, kind: 'practice_restored', subject: 'installation', says: says.slice(0, 500) });
  return { ...kept, at: iso(kept.at) };
}

export async function showPractice(s: BackupParts): Promise<{ last: PracticeRestore | null }> {
  const last = await s.store.backups.practiced();
  return { last: last && { ...last, at: iso(last.at) } };
}

export async function removeBackupPlan(s: BackupParts, { actor }: Pick<Command<'removeBackupPlan'>, 'actor'>): Promise<{ done: true }> {
  await s.store.backups.setPlan(null);
  s.history.add({ actor: actor.operator.name, kind: 'backup_plan_changed', subject: 'installation', says: 'Ended the schedule of backups.' });
  return { done: true };
}
