export { counted } from '../../api/vocabulary.ts';
/** The exact time in the person's own zone, with the zone. */
export const exact = (at: number): string => new Date(at).toLocaleString(undefined, { dateStyle: 'medium', timeStyle: 'long' });

/** "once", "3 times". */
export const times = (count: number): string => (count === 1 ? 'once' : `${count} times`);
