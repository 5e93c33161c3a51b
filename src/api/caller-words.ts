import type { Caller, Permission } from './callers.ts';

/** The uses that stop when a permission ends. */
export const usesUnder = (caller: Pick<Caller, 'uses'>, one: Pick<Permission, 'connection' | 'label'>): Caller['uses'] =>
  caller.uses.filter((use) => (one.label === null ? use.connection === one.connection : use.labels.includes(one.label)) && use.tokens + use.relayed > 0);

/** Names in one line; where only the first of many are at hand, how many more there are. */
export const namesInWords = (names: readonly string[], total: number): string =>
  total > names.length ? `${names.join(', ')} and ${(total - names.length).toLocaleString('en')} more` : names.join(', ');
