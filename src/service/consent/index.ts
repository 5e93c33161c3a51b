/** The face of this room: consents. */
export { CONSENT_COOKIE_SECONDS, type ConsentOffer, type Consents, consentCookieName, consents } from './consents.ts';
export { pollDevices } from './devices.ts';
export { importToken } from './import-token.ts';
export type { ConsentParts } from './parts.ts';
