/** The face of this room: what follows from stored records alone. */
export { definitionFor, methodOf, missingOf, refuseUnconfirmed, registeringOf, unconfirmedOf, WAITS_UNTIL } from './client-record.ts';
export { summaries, TICKS_IN_LISTS, TICKS_SHOWN } from './connection-summaries.ts';
export { emptyOutcome } from './consent-outcome.ts';
export type { RecordParts } from './parts.ts';
export { refuseShared } from './shared.ts';
