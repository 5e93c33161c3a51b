/** The face of this room: everything but the secrets as files, and back. */

export { driftFrom } from './drift.ts';
export { exportFiles } from './files.ts';
export { compareFiles, importBundle } from './importing.ts';
export type { BundleParts } from './parts.ts';
export { exportSecrets, importSecrets } from './secrets.ts';
