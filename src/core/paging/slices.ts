import type { Slice } from './plan.ts';
import { type Range, stepOf } from './request.ts';

/**
 * Halves a slice that met the cap, at a border that its format can name.
 * @returns the two halves, the earlier first; null: it is as small as the format allows
 */
export function halve(slice: Pick<Slice, 'format'>, range: Range): [Range, Range] | null {
  const step = stepOf(slice);
  const steps = Math.round((range.to - range.from) / step);
  if (steps < 2) return null;
  const middle = range.from + Math.floor(steps / 2) * step;
  return [
    { from: range.from, to: middle },
    { from: middle, to: range.to },
  ];
}

/** A range widened to borders that the format can name. */
export function wholeSteps(slice: Pick<Slice, 'format'>, range: Range): Range {
  const step = stepOf(slice);
  return { from: Math.floor(range.from / step) * step, to: Math.max(Math.ceil(range.to / step), Math.floor(range.from / step) + 1) * step };
}
