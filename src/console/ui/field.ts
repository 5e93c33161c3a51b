import type { Problem } from '../../api/problem.ts';

/** What a problem says of one field; null: nothing. A field with parts below it is meant too. */
export function errorAt(problem: Problem | null, path: string): string | null {
  const whys = (problem?.places ?? []).filter((place) => place.path === path || place.path.startsWith(`${path}.`)).map((place) => place.why);
  return whys.length === 0 ? null : whys.join('; ');
}
