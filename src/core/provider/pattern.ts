import { RE2JS } from 're2js';

/**
 * Patterns that a definition brings, run in linear time whatever they say (RE2): a text of someone else never meets a backtracking matcher.
 * Kept compiled, because a page of notes is held against each of them.
 */
const compiled = new Map<string, RE2JS>();
const MAX_KEPT = 2_000;
/** Longer than any id, secret or tenant that a pattern describes. */
const MAX_TEXT = 1_000;

const compile = (pattern: string): RE2JS => {
  let expression = compiled.get(pattern);
  if (!expression) {
    expression = RE2JS.compile(`(?:${pattern})`);
    if (compiled.size >= MAX_KEPT) compiled.clear();
    compiled.set(pattern, expression);
  }
  return expression;
};

/** Why a pattern is not accepted, or null. */
export function patternProblem(pattern: string): string | null {
  try {
    compile(pattern);
    return null;
  } catch {
    return 'It is not a regular expression of the RE2 syntax: look-ahead, look-behind and back references are not supported.';
  }
}

/** True where the pattern describes the whole text. */
export const fitsPattern = (pattern: string, text: string): boolean => text.length <= MAX_TEXT && compile(pattern).matches(text);
