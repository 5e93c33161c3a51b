/** The face of this room: the status. */

export { showBreakdown } from './breakdown.ts';
export { hourFigures } from './hour-figures.ts';
export type { StatusParts } from './parts.ts';
export { listInstallationRisks } from './risks.ts';
export { showStatistics } from './statistics.ts';
export { installationState, ownInstallation, showStatus } from './status.ts';
