/** A field of a compared document as people read it: lists of words without brackets and quotes. */
export function fieldValueText(value: unknown): string {
  if (value === undefined) return '(nothing)';
  if (typeof value === 'string') return value;
  return Array.isArray(value) && value.length > 0 && value.every((one) => typeof one === 'string') ? value.join(', ') : JSON.stringify(value);
}
