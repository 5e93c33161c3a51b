/** One difference between two versions of a definition. */
export interface DefinitionChange {
  /** Members joined by dots; members of lists by their name where they have one. */
  path: string;
  from: string | null;
  to: string | null;
}

const shown = (value: unknown): string => (typeof value === 'string' ? value : JSON.stringify(value)).slice(0, 300);
const nameOf = (value: unknown): string | null => {
  const one = value as { name?: unknown; id?: unknown; reach?: unknown; of?: unknown } | null;
  const name = typeof value === 'object' && one ? (one.name ?? one.id ?? one.reach ?? one.of) : null;
  return typeof name === 'string' ? name : null;
};

/** Lists of named things are compared by name, everything else by place. */
function children(value: unknown): Map<string, unknown> | null {
  if (Array.isArray(value)) {
    const names = value.map(nameOf);
    if (names.every((name) => name !== null) && new Set(names).size === names.length) return new Map(value.map((one, at) => [names[at] ?? '', one]));
    return value.some((one) => typeof one === 'object') ? new Map(value.map((one, at) => [String(at), one])) : null;
  }
  return typeof value === 'object' && value !== null ? new Map(Object.entries(value)) : null;
}

/** What differs, in the order of the members. */
export function compareDefinitions(before: unknown, after: unknown, path = ''): DefinitionChange[] {
  if (JSON.stringify(before) === JSON.stringify(after)) return [];
  const [a, b] = [children(before), children(after)];
  if (!a || !b) return [{ path: path || '(the whole file)', from: before === undefined ? null : shown(before), to: after === undefined ? null : shown(after) }];
  return [...new Set([...a.keys(), ...b.keys()])].flatMap((name) => compareDefinitions(a.get(name), b.get(name), path ? `${path}.${name}` : name));
}
