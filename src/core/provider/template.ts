/**
 * Texts with {names} in them, matched against texts from elsewhere in linear time: from left to right, each name takes at least one character
 * and ends where the next literal part first stands. Nothing is tried twice, so no text can make it run long.
 */
export interface Template {
  /** The literal parts; between two of them stands a name. */
  literals: readonly string[];
  names: readonly string[];
}

const NAME = /\{([^/{}]+)\}/;
const kept = new Map<string, Template>();
const MAX_KEPT = 10_000;

export function templateOf(text: string): Template {
  let template = kept.get(text);
  if (!template) {
    const parts = text.split(NAME);
    template = { literals: parts.filter((_part, at) => at % 2 === 0), names: parts.filter((_part, at) => at % 2 === 1) };
    if (kept.size >= MAX_KEPT) kept.clear();
    kept.set(text, template);
  }
  return template;
}

/** What the names stand for in a text that fits as a whole; null: it does not fit. */
export function matchTemplate({ literals, names }: Template, text: string): string[] | null {
  const [first = ''] = literals;
  if (names.length === 0) return text === first ? [] : null;
  if (!text.startsWith(first)) return null;
  const values: string[] = [];
  let from = first.length;
  for (let at = 1; at < literals.length; at += 1) {
    const literal = literals[at] as string;
    const last = at === literals.length - 1;
    const end = last ? text.length - literal.length : text.indexOf(literal, from + 1);
    if (end <= from || (last && !text.endsWith(literal))) return null;
    values.push(text.slice(from, end));
    from = end + literal.length;
  }
  return values;
}

/** True where two names stand side by side: what belongs to which cannot be told. */
export const hasAdjacentNames = (text: string): boolean => /\}\{/.test(text);

/** True for a path, without its query, that fits a pattern whose {names} stay within one segment each. */
export function fitsPath(pattern: string, path: string): boolean {
  if (!pattern.includes('{')) return pattern === path;
  const [wanted, given] = [pattern.split('/'), path.split('/')];
  return wanted.length === given.length && wanted.every((segment, at) => matchTemplate(templateOf(segment), given[at] as string) !== null);
}
