/** The face of this room: jobs that collect records, their runs and results. */
export { bell } from './bell.ts';
export {
  addJob,
  cancelRun,
  changeJob,
  collectNow,
  listJobs,
  listOwnJobs,
  listRuns,
  previewRun,
  removeJob,
  resumeRun,
  runJob,
  runResult,
  servedResult,
  showJob,
  showJobValues,
  showRun,
} from './jobs.ts';
export type { JobParts } from './parts.ts';
export { planJob } from './planning.ts';
export { recognizePaging } from './recognition.ts';
export { filledJob } from './resolve.ts';
export { fileBytes, gzipBytes, textOf } from './results.ts';
export { runJobs } from './worker.ts';
