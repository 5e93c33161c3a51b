/** The face of this room: operators sign in at the company's own OpenID Connect provider. */
export type { IdentitySignIn } from './face.ts';
export { identitySignIn, SIGN_IN_SECONDS } from './identity.ts';
