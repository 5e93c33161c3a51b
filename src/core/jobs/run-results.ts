/** How a run ended, in one word, as it is drawn. */
export const RUN_RESULTS = ['complete', 'incomplete', 'cannot_tell', 'failed', 'skipped', 'waiting', 'running', 'cancelled'] as const;
export type RunResult = (typeof RUN_RESULTS)[number];
