import type { OperationName } from '../../src/api/operations.ts';
import { operations } from '../../src/api/operations.ts';
import { ROLE_RULES } from '../../src/api/role-rules.ts';
import { atLeast, type Limit, ROLES, type RoleRule } from '../../src/api/roles.ts';
import { ROLE_WORDS } from '../../src/api/vocabulary.ts';

const LIMIT_WORDS: Record<Limit, string> = {
  open: 'yes',
  listed: 'what is within',
  installation: 'no',
  references: 'if all it names is within',
};

/** docs/ROLES.md: the role matrix, from the table that the router enforces. */
export function rolesDocument(): string {
  const rows = (Object.entries(ROLE_RULES) as [OperationName, RoleRule][]).map(([name, rule]) => {
    const may = ROLES.map((role) => (atLeast(role, rule.role) ? 'yes' : '–')).join(' | ');
    return `| ${operations[name].says} | \`${name}\` | ${may} | ${LIMIT_WORDS[rule.limit]} | ${rule.confirms ? 'yes' : ''} |`;
  });
  return `<!-- Made by \`npm run docs\` from src/api/role-rules.ts; do not edit by hand. -->
# Roles

${ROLES.map((role) => `- **${role}**: ${ROLE_WORDS[role]}.`).join('\n')}

An account can be limited to labels: it then sees and changes only connections with one of them, and their callers, jobs, people and notices. What is outside answers as if it did not exist. *Limited* shows what such an account may do, if its role permits it. *Asks again* marks sensitive operations: they need password or second factor within the last ten minutes, and never take a personal token. Files of results and exports of the activity log need the role operator. How to set up accounts: [add operators](how-to/add-operators.md).

| operation | API name | viewer | operator | administrator | limited | asks again |
|---|---|---|---|---|---|---|
${rows.join('\n')}
`;
}
