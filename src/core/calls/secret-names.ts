/** Names under which people send keys and passwords. */
const NAME_HAS = /auth|key|token|secret|passw|passphrase|credential|cookie|session|signature|hmac|bearer|licen[sc]e/i;
/** Short words count alone: `x-pin`, `sig`, not `shipping` or `design`. */
const NAME_IS = /(^|[^a-z])(pin|sig|pwd|pass|otp|code|hash|sid|jwt|apikey)([^a-z]|$)/i;
export const isSecretName = (name: string): boolean => NAME_HAS.test(name) || NAME_IS.test(name);
