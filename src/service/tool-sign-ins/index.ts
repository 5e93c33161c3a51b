/** The face of this room: sign-ins of tools. */
export type { ToolSignInParts } from './parts.ts';
export {
  RELAY_TOKEN_PREFIX,
  type RelayTokens,
  relayTokens,
  SIGN_IN_COOKIE_SECONDS,
  type SignInRequests,
  signInCookieName,
  signInRequests,
} from './requests.ts';
export { endSignIn, endSignIns, signedInTools } from './sign-ins.ts';
export { type Shown, type ToolRefusal, type ToolTokens, toolTokens } from './tool-tokens.ts';
