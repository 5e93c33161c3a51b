/** The face of this room: backups, their schedule, and their files. */
export {
  backupFile,
  listBackups,
  removeBackup,
  removeBackupPlan,
  reportPractice,
  setBackupPlan,
  showBackup,
  showBackupPlan,
  showPractice,
  startBackup,
} from './backups.ts';
export type { BackupParts } from './parts.ts';
export { keepBackups } from './schedule.ts';
