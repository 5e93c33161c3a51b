/** The face of this room: operators sign in at the company's own OpenID Connect provider. */

export { identitySignIn, SIGN_IN_SECONDS } from './identity.ts';
export type { IdentitySignIn } from './identity-interface.ts';
