/** What an operator may do; each role may do what those before it may. */
export const ROLES = ['viewer', 'operator', 'administrator'] as const;
export type Role = (typeof ROLES)[number];

/**
 * What an account that is limited to labels may name. `listed`: the answer is narrowed to what it may see. `open`: concerns no connection.
 * `installation`: concerns all of them, and is refused. The others: the object named in the path, or in the body, must be within the limit.
 */
export type Limit =
  | 'open'
  | 'listed'
  | 'installation'
  | 'connection'
  | 'caller'
  | 'job'
  | 'run'
  | 'consent'
  | 'notice'
  | 'invitation'
  | 'body_connection'
  | 'body_names'
  | 'body_labels'
  | 'permission'
  | 'subject';

export interface RoleRule {
  /** The least role. */
  role: Role;
  limit: Limit;
  /** Sensitive: the operator must have entered password or second factor within the last ten minutes; personal tokens never may. */
  confirms?: true;
}

/** Whether a role may do what needs at least this one. */
export const atLeast = (role: Role, least: Role): boolean => ROLES.indexOf(role) >= ROLES.indexOf(least);
