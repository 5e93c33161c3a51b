import type { Caller, Permission } from './callers.ts';

/** The uses that stop when a permission ends. */
export const usesUnder = (caller: Pick<Caller, 'uses'>, one: Pick<Permission, 'connection' | 'label'>): Caller['uses'] =>
  caller.uses.filter((use) => (one.label === null ? use.connection === one.connection : use.labels.includes(one.label)) && use.tokens + use.relayed > 0);

const IN_A_LINE = 8;

/** Names in one line: the first, and how many more there are. */
export function namesInWords(names: readonly string[], total: number): string {
  const shown = names.slice(0, IN_A_LINE);
  return total > shown.length ? `${shown.join(', ')} and ${(total - shown.length).toLocaleString('en')} more` : shown.join(', ');
}
