import { operationsOf } from '../clients/privilege.ts';
import type { Operation } from '../provider/api.ts';
import { POWERS, type Power, type ProviderDefinition } from '../provider/definition.ts';

/** Whose data a connection reaches. */
export const REACH_WIDTHS = ['one_account', 'each_person', 'organization'] as const;
export type ReachWidth = (typeof REACH_WIDTHS)[number];

/** What is known of one connection. */
export interface ConnectionFacts {
  name: string;
  definition: ProviderDefinition;
  clientType: string;
  shared: boolean;
  /** Of the current grant; where the provider did not report them, those that were requested. */
  granted: readonly string[];
  /** Ids of operations that it was set up for. */
  operations: readonly string[];
  /** Calls that are saved, and that jobs make. */
  calls: readonly { method: string; path: string }[];
  /** Callers get its tokens: what they do with them is not seen here. */
  hasTokensIssued: boolean;
}

export interface ConnectionPrivilege {
  power: Power | null;
  width: ReachWidth;
  /** Granted scopes that nothing set up here needs. */
  unneeded: string[];
  /** False: callers fetch its tokens, or nothing says what it is for. */
  isKnown: boolean;
}

/** The operation of a call: the same method, and each part of the path the same or a name in braces. */
export function operationOf(definition: ProviderDefinition, { method, path }: { method: string; path: string }): Operation | null {
  const parts = (path.split('?')[0] ?? '').split('/');
  const found = operationsOf(definition).find((operation) => {
    const wanted = operation.path.split('/');
    return (
      operation.method === method.toUpperCase() && wanted.length === parts.length && wanted.every((part, at) => /^\{.*\}$/.test(part) || part === parts[at])
    );
  });
  return found ?? null;
}

/** What a connection can do, and for whom; and what of it nothing here needs. */
export function privilegeOfConnection(facts: ConnectionFacts): ConnectionPrivilege {
  const catalogue = new Map(facts.definition.scopes.map((scope) => [scope.name, scope]));
  const scopes = facts.granted.flatMap((name) => catalogue.get(name) ?? []);
  const power = scopes.reduce<Power | null>((most, { power: one }) => (most === null || POWERS.indexOf(one) > POWERS.indexOf(most) ? one : most), null);
  const isWide = facts.clientType === 'service_account' || scopes.some((scope) => scope.organization || scope.acts_for === 'itself');
  const known = new Map(operationsOf(facts.definition).map((one) => [one.id, one]));
  const needed = [...facts.operations.flatMap((id) => known.get(id) ?? []), ...facts.calls.flatMap((call) => operationOf(facts.definition, call) ?? [])];
  const wanted = new Set(needed.flatMap((operation) => operation.needs.flat()));
  const isUnknownCall = facts.calls.some((call) => operationOf(facts.definition, call) === null);
  return {
    power,
    width: facts.shared ? 'each_person' : isWide ? 'organization' : 'one_account',
    unneeded: facts.granted.filter((name) => !wanted.has(name) && catalogue.get(name)?.power !== 'identity'),
    isKnown: needed.length > 0 && !isUnknownCall && !facts.hasTokensIssued,
  };
}

/** A permission of a caller, and what it did lately with what the permission opens. */
export interface CallerFacts {
  use: 'any' | 'token' | 'relay';
  /** In the days that are kept. */
  tokens: number;
  relayed: number;
  hasLimits: boolean;
}

/** How a permission could be less, in a sentence; null: it is used as it is. @param days how long uses are kept */
export function couldBeLess({ use, tokens, relayed, hasLimits }: CallerFacts, days: number): string | null {
  if (tokens === 0 && relayed === 0) return `Not used in ${days} days: withdraw it.`;
  if (use === 'any' && tokens === 0) return `Only relayed calls in ${days} days: permit the relay only, and the token never leaves.`;
  if (use === 'any' && relayed === 0) return `Only tokens in ${days} days: permit tokens only.`;
  if (use === 'relay' && !hasLimits) return 'Every method and path: limit it to those that it needs.';
  return null;
}
