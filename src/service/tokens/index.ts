/** The face of this room: tokens for callers. */
export { apiSessions } from './api-sessions.ts';
export { type ApiToken, type ApiTokens, apiTokens } from './api-token.ts';
export { type Assertions, assertions, subjectOf } from './assertions.ts';
export { type CallerCheck, callerCheck } from './caller-check.ts';
export { type CallerDirectory, callerDirectory, type KnownCaller } from './caller-directory.ts';
export { issuance } from './issuance.ts';
export { ascii, CHALLENGE, malformedRequest, OAUTH_HEADERS, type OAuthAnswer, type OAuthRequest, type PresentedCertificate, Refusal } from './oauth-answer.ts';
export { credentials, type Form, readForm } from './oauth-form.ts';
export type { PermittedConnection } from './permitted.ts';
export { sessionOf } from './set-up.ts';
export { type WhoCalls, whoCalls } from './who-calls.ts';
