import { CONSENT_MS } from './opening.ts';

/** The cookie that binds one consent to one browser, and its lifetime in seconds. */
export const CONSENT_COOKIE_SECONDS = CONSENT_MS / 1000;
export const consentCookieName = (consentId: string): string => `rk_consent_${consentId.replaceAll('-', '').slice(-12)}`;
