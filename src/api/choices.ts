/** The closed lists that forms and command lines offer, without the schemas: `rk --help` must not load those. */
export { PEOPLE_RIGHTS, RELAY_METHODS, USES } from '../core/callers/permissions.ts';
export { SETUP_KINDS } from '../core/callers/setup-instructions.ts';
export { KEY_KINDS } from '../core/certificates/kinds.ts';
export { CONNECTION_STATES } from '../core/health.ts';
export { GRANT_TYPES, WAYS } from '../core/oauth/grant-kinds.ts';
export { CLIENT_ASSERTION_ALGORITHMS, CLIENT_AUTHENTICATION_METHODS, SECRET_KINDS } from '../core/oauth/methods.ts';
export { FORMATS } from '../core/output/formats.ts';
export { APPROVALS, CLIENT_TYPES, ENVIRONMENTS, REACHES } from '../core/provider/kinds.ts';
export { SCENARIO_WORDS, SCENARIOS, type Scenario } from '../core/rehearsals/scenarios.ts';
export { POLICIES } from '../core/renewal/plan.ts';
export { LOG_LEVELS } from './log-levels.ts';
