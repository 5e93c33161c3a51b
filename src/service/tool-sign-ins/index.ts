/** The face of this room: sign-ins of tools. */
export type { ToolSignInParts } from './parts.ts';
export { DOOR_COOKIE_SECONDS, type Door, door, doorCookieName, RELAY_TOKEN_PREFIX, type RelayTokens, relayTokens } from './requests.ts';
export { endSignIn, endSignIns, signedInTools } from './sign-ins.ts';
export { type Shown, type ToolRefusal, type ToolTokens, toolTokens } from './tool-tokens.ts';
