/** Who agrees to a connection: a person, or the client alone, for itself or in an account's name. */
export const GRANT_TYPES = ['authorization_code', 'client_credentials', 'jwt_bearer'] as const;
export type GrantType = (typeof GRANT_TYPES)[number];

/** What a grant came from; a static key counts as one. */
export const GRANT_KINDS = [...GRANT_TYPES, 'device_code', 'imported', 'static_key'] as const;
export type GrantKind = (typeof GRANT_KINDS)[number];

/**
 * How a consent comes back: by the browser's redirect to this service; by a redirect to a program on the engineer's own machine
 * (RFC 8252 §7.3); as an address or code pasted by hand; as a code that the provider's console prints; by a code shown on another
 * device (RFC 8628); by nobody, where the client asks for itself.
 */
export const WAYS = ['redirect', 'loopback', 'pasted', 'printed', 'device', 'by_itself'] as const;
export type Way = (typeof WAYS)[number];

/** The same as `grant_type` values on the wire (RFC 6749, RFC 7523 §2.1, RFC 8628 §3.4). */
export const WIRE_GRANT_TYPES = {
  authorization_code: 'authorization_code',
  refresh_token: 'refresh_token',
  client_credentials: 'client_credentials',
  jwt_bearer: 'urn:ietf:params:oauth:grant-type:jwt-bearer',
  device_code: 'urn:ietf:params:oauth:grant-type:device_code',
} as const;

/** True where nobody consents and no refresh token is needed: the client requests a new token. */
export const isClientsOwn = (kind: string): kind is 'client_credentials' | 'jwt_bearer' => kind === 'client_credentials' || kind === 'jwt_bearer';

export const isKey = (kind: string): kind is 'static_key' => kind === 'static_key';

/** A static key ends by someone's hand alone; this is written where an expiry has to stand. 100 years, in ms. */
export const KEY_LIFE_MS = 100 * 365 * 86_400_000;

/** What a caller learns of a key's lifetime, so that it asks again within the hour and meets a switch to OAuth. */
export const KEY_LIFE_SHOWN_SECONDS = 3_600;
