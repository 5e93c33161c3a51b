/** A column is not made narrower than this. */
const LEAST = 8;
const BETWEEN = 2;

/**
 * Widths of columns that fit in a terminal: the widest give way first, evenly.
 * @param wanted what each column would take
 * @param room columns of the terminal
 */
export function fitWidths(wanted: readonly number[], room: number): number[] {
  const most = room - BETWEEN * (wanted.length - 1);
  const total = (limit: number) => wanted.reduce((sum, width) => sum + Math.min(width, Math.max(LEAST, limit)), 0);
  let limit = Math.max(LEAST, ...wanted);
  while (limit > LEAST && total(limit) > most) limit -= 1;
  return wanted.map((width) => Math.min(width, limit));
}

/** A text of one line cut to a width, with a mark where something is missing. */
export const cut = (text: string, width: number): string => (text.length <= width ? text : `${text.slice(0, Math.max(0, width - 1))}\u2026`);
