/** What an operator may do; each role may do what those before it may. */
export const ROLES = ['viewer', 'operator', 'administrator'] as const;
export type Role = (typeof ROLES)[number];

/**
 * What an account that is limited to labels may do with an operation. Whatever the rule, every object that a request names must be within the
 * account's limit. `references`: it must name at least one. `listed`: the answer is narrowed to what the account may see. `open`: the answer
 * concerns no connection of others. `installation`: concerns all of them, and is refused.
 */
const LIMITS = ['open', 'listed', 'references', 'installation'] as const;
export type Limit = (typeof LIMITS)[number];

export interface RoleRule {
  /** The least role. */
  role: Role;
  limit: Limit;
  /** Sensitive: the operator must have entered password or second factor within the last ten minutes; personal tokens never may. */
  confirms?: true;
}

/** Whether a role may do what needs at least this one. */
export const atLeast = (role: Role, least: Role): boolean => ROLES.indexOf(role) >= ROLES.indexOf(least);
