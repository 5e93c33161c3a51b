/** The face of this room: consents. */
export { consents } from './consents.ts';
export type { ConsentOffer, Consents } from './consents-interface.ts';
export { CONSENT_COOKIE_SECONDS, consentCookieName } from './cookie.ts';
export { pollDevices } from './devices.ts';
export { importToken } from './import-token.ts';
export { INVITATION_USED } from './outcome.ts';
export type { ConsentParts } from './parts.ts';
