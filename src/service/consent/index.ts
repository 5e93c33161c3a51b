/** The face of this room: consents. */
export { CONSENT_COOKIE_SECONDS, type Consents, consentCookieName, consents, type Invitation } from './consents.ts';
export { pollDevices } from './devices.ts';
export { importToken } from './import-token.ts';
export type { ConsentParts } from './parts.ts';
