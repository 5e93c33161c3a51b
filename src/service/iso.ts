/** Epoch ms as ISO 8601 in UTC. */
export const iso = (at: number): string => new Date(at).toISOString();
export const isoOrNull = (at: number | null): string | null => (at === null ? null : iso(at));
