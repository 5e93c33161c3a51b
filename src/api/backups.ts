import { z } from 'zod';
import { PracticeFacts } from '../core/backup/practice.ts';
import { Id, Instant } from './common.ts';
import { Done, list, type Operation } from './operation.ts';

const Recipient = z.string().max(5_000).describe('A public key in PEM: only whoever has the private key can restore');
const StartBackup = z
  .strictObject({
    passphrase: z.string().min(12, { error: 'At least 12 characters: whoever has the file can try.' }).max(500).optional(),
    recipient: Recipient.optional(),
    results: z.boolean().default(true).describe('With what jobs collected'),
    move: z.boolean().default(false).describe('Hold renewals here first, so that nothing changes after the backup: to move to another installation'),
  })
  .refine((one) => (one.passphrase === undefined) !== (one.recipient === undefined), {
    error: 'Give a passphrase or a public key, one of the two.',
    path: ['passphrase'],
  });
export const Backup = z.object({
  id: Id,
  state: z.enum(['running', 'done', 'failed']),
  kind: z.enum(['manual', 'scheduled']),
  lock: z.enum(['passphrase', 'recipient']),
  results: z.boolean(),
  requested_by: z.string(),
  started_at: Instant,
  ended_at: Instant.nullable(),
  rows: z.number().int(),
  bytes: z.number().int(),
  file: z.string().describe('Its name in the backup folder of the replica that wrote it'),
  says: z.string(),
});
export type Backup = z.output<typeof Backup>;
const BackupPlan = z.strictObject({
  every_hours: z
    .number()
    .int()
    .min(1)
    .max(24 * 31),
  keep: z.number().int().min(1).max(1_000).describe('How many scheduled backups are kept'),
  recipient: Recipient,
  results: z.boolean().default(false),
});
export const BackupPlanShown = z.object({
  signer: z.string().describe('Fingerprint of the key with which this installation signs backups: `rk restore --signer` compares it'),
  plan: z.object({ every_hours: z.number(), keep: z.number(), recipient: z.string(), results: z.boolean() }).nullable(),
  last_good_at: Instant.nullable(),
  next_at: Instant.nullable(),
  folder: z.string().describe('Where this replica writes backups'),
});
export type BackupPlanShown = z.output<typeof BackupPlanShown>;

const PracticeRestore = z.object({
  at: Instant,
  by: z.string(),
  good: z.boolean(),
  faults: z.array(z.string()).describe('What is wrong'),
  file: z.string(),
  facts: PracticeFacts.nullable().describe('Null: the backup could not be restored'),
});
export type PracticeRestore = z.output<typeof PracticeRestore>;
const PracticeReported = z.strictObject({
  file: z.string().max(300),
  facts: PracticeFacts.nullable(),
  failed: z.string().max(600).optional().describe('Why it could not be restored'),
});

export const backupOperations = {
  listBackups: { method: 'GET', path: '/api/v1/backups', access: 'operator', says: 'List backups, newest first', answer: list(Backup) },
  startBackup: {
    method: 'POST',
    path: '/api/v1/backups',
    access: 'operator',
    says: 'Back everything up into an encrypted file, while the service runs',
    body: StartBackup,
    answer: Backup,
  },
  showBackup: { method: 'GET', path: '/api/v1/backups/{backup}', access: 'operator', says: 'Show a backup: how far it is, or why it failed', answer: Backup },
  removeBackup: { method: 'DELETE', path: '/api/v1/backups/{backup}', access: 'operator', says: 'Delete a backup with its file', answer: Done },
  showBackupPlan: { method: 'GET', path: '/api/v1/backup-plan', access: 'operator', says: 'Show the schedule of backups', answer: BackupPlanShown },
  setBackupPlan: {
    method: 'POST',
    path: '/api/v1/backup-plan',
    access: 'operator',
    says: 'Back up on a schedule, to a public key',
    body: BackupPlan,
    answer: BackupPlanShown,
  },
  reportPractice: {
    method: 'POST',
    path: '/api/v1/practice-restores',
    access: 'operator',
    says: 'Report what a practice restore found, as `rk restore --practice --check` does',
    body: PracticeReported,
    answer: PracticeRestore,
  },
  showPractice: {
    method: 'GET',
    path: '/api/v1/practice-restores/last',
    access: 'operator',
    says: 'Show what the last practice restore found',
    answer: z.object({ last: PracticeRestore.nullable() }),
  },
  removeBackupPlan: { method: 'DELETE', path: '/api/v1/backup-plan', access: 'operator', says: 'End the schedule of backups', answer: Done },
} as const satisfies Record<string, Operation>;
