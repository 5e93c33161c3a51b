import type { RenewalRow } from './row.ts';

/**
 * The database may go back: a replica that was behind is promoted, or an older copy is loaded.
 * Each replica counts its acknowledged saves twice, in the database (its *mark*) and outside it. A mark below what is known shows that
 * saves were lost, and with them rotated tokens that must not be spent again.
 */
export interface Mark {
  /** Of a replica: the ID of its data folder. */
  instance: string;
  /** Saves that the database has. */
  mark: number;
  /** Saves that this replica knew to be acknowledged when it last reported. */
  reported: number;
}

/** Replicas of which the database has lost saves. @param remembered what was seen of each mark before */
export function lostSaves(marks: readonly Mark[], remembered: ReadonlyMap<string, number>): string[] {
  const present = new Map(marks.map((one) => [one.instance, one]));
  const known = new Set([...present.keys(), ...remembered.keys()]);
  return [...known].filter((instance) => {
    const { mark = 0, reported = 0 } = present.get(instance) ?? {};
    return mark < Math.max(reported, remembered.get(instance) ?? 0);
  });
}

/**
 * Replicas that must still put back what they have before a rotating token may be spent: those that lost saves, and those that run, because
 * they may know of losses that the others do not.
 */
export const stillMissing = (of: { lost: readonly string[]; running: readonly string[]; reported: readonly string[] }): string[] => [
  ...new Set([...of.lost, ...of.running].filter((instance) => !of.reported.includes(instance))),
];

/** What to do with the newest answer that a data folder has for a grant. */
export type PutBack = 'put_back' | 'restore' | 'present' | 'ended' | 'unknown';

/**
 * | in the database | what is done |
 * |---|---|
 * | an older generation | the answer is put back |
 * | the same generation, or a newer one | nothing: it has the answer, or what came after it |
 * | ended: replaced, revoked, removed | nothing: that was decided later, or by someone |
 * | no grant, and its consent is in the folder | the grant is restored |
 * | no grant | reported: someone must reconnect, or it was removed |
 */
export function judgeAnswer(row: Pick<RenewalRow, 'generation' | 'ended'> | null, kept: { generation: number; isFirstKnown: boolean }): PutBack {
  if (row === null) return kept.isFirstKnown ? 'restore' : 'unknown';
  if (row.ended) return 'ended';
  return row.generation < kept.generation ? 'put_back' : 'present';
}
