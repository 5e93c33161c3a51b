/** What a cause has where it states nothing of its own. */
export const PLAIN = { labels: [] as string[], count: 0, dueAt: null, settleMs: 0, evidence: '' };
