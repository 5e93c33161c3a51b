import type { Operation } from '../provider/api.ts';
import { POWERS, type Power, type ProviderDefinition, type Scope } from '../provider/definition.ts';

/** How strong a client is: the most that its registered scopes let it do, and for whom. */
export interface Privilege {
  /** Null: no scope is registered here, so that it cannot be said. */
  power: Power | null;
  /** It may act for itself: over all accounts, without anybody signing in. */
  actsForItself: boolean;
  /** Registered scopes that the definition does not list. */
  unlisted: string[];
  says: string;
}

const POWER_WORDS: Record<Power, string> = { identity: 'sees only who signed in', read: 'reads', write: 'reads and writes', admin: 'administers' };
const rank = (power: Power): number => POWERS.indexOf(power);

/** Computed from the registered scopes; `type` tells whether nobody signs in. */
export function privilegeOf(catalogue: readonly Scope[], registered: readonly string[], type: string): Privilege {
  const listed = registered.flatMap((name) => catalogue.find((scope) => scope.name === name) ?? []);
  const unlisted = registered.filter((name) => !catalogue.some((scope) => scope.name === name));
  const power = listed.reduce<Power | null>((most, scope) => (most === null || rank(scope.power) > rank(most) ? scope.power : most), null);
  const actsForItself = type === 'service_account' || listed.some((scope) => scope.acts_for === 'itself');
  if (registered.length === 0) return { power: null, actsForItself, unlisted, says: 'Not known: no registered scopes are entered.' };
  const does = power === null ? 'has scopes that the definition does not list' : POWER_WORDS[power];
  const more = unlisted.length > 0 && power !== null ? `, and has ${unlisted.length} of its own making` : '';
  return { power, actsForItself, unlisted, says: `It ${does}${more}, ${actsForItself ? 'for itself: over all accounts' : 'for the person who consented'}.` };
}

/** The weight of a set of scopes: the strongest power first, then how many. */
function weight(catalogue: readonly Scope[], scopes: readonly string[]): number {
  const powers = scopes
    .map((name) => catalogue.find((scope) => scope.name === name))
    .map((scope) => (scope ? rank(scope.power) * 2 + (scope.organization ? 1 : 0) : 2 * POWERS.length));
  return Math.max(0, ...powers) * 1000 + scopes.length;
}

/**
 * The scopes that these operations need: where one of several would do, the weakest; what another operation needs anyway costs nothing.
 * @returns the scopes, and for each operation the alternative chosen.
 */
export function scopesFor(catalogue: readonly Scope[], operations: readonly Operation[]): { scopes: string[]; chosen: Record<string, string[]> } {
  const scopes = new Set<string>();
  const chosen: Record<string, string[]> = {};
  // Those without a choice first, so that the others can lean on them.
  for (const operation of [...operations].sort((a, b) => a.needs.length - b.needs.length)) {
    const best = [...operation.needs].sort(
      (a, b) =>
        weight(
          catalogue,
          a.filter((one) => !scopes.has(one)),
        ) -
        weight(
          catalogue,
          b.filter((one) => !scopes.has(one)),
        ),
    )[0];
    chosen[operation.id] = best ?? [];
    for (const scope of best ?? []) scopes.add(scope);
  }
  return { scopes: [...scopes].sort(), chosen };
}

/** Scopes that come along whatever a connection is for: those ticked beforehand that only say who consented, or keep the access. */
export const impliedScopes = (catalogue: readonly Scope[]): string[] =>
  catalogue.filter((scope) => scope.preset && scope.power === 'identity').map((scope) => scope.name);

/** True where these scopes allow the operation. */
export const allows = (scopes: readonly string[], operation: Pick<Operation, 'needs'>): boolean =>
  operation.needs.length === 0 || operation.needs.some((all) => all.every((scope) => scopes.includes(scope)));

/** Every operation of a definition. */
export const operationsOf = (definition: ProviderDefinition): Operation[] => definition.apis.flatMap((api) => api.operations);

export interface ClientAtHand {
  name: string;
  type: string;
  registered: readonly string[];
}

/**
 * A weaker client that would do for these operations: of the same provider and environment, its registered scopes allow them all, and
 * it is weaker than the present one. Null: none.
 */
export function weakerClient(
  catalogue: readonly Scope[],
  present: ClientAtHand,
  others: readonly ClientAtHand[],
  operations: readonly Operation[],
): string | null {
  if (operations.length === 0) return null;
  const own = weight(catalogue, present.registered) + (privilegeOf(catalogue, present.registered, present.type).actsForItself ? 100_000 : 0);
  const fitting = others
    .filter((one) => one.name !== present.name && one.registered.length > 0 && operations.every((operation) => allows(one.registered, operation)))
    .map((one) => ({
      name: one.name,
      weight: weight(catalogue, one.registered) + (privilegeOf(catalogue, one.registered, one.type).actsForItself ? 100_000 : 0),
    }))
    .sort((a, b) => a.weight - b.weight);
  const [weakest] = fitting;
  return weakest && present.registered.length > 0 && weakest.weight < own ? weakest.name : null;
}
