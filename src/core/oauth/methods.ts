/** The words of RFC 7591 and OpenID Connect Core §9 for how a client authenticates at the token endpoint. */
export const CLIENT_AUTHENTICATION_METHODS = ['client_secret_basic', 'client_secret_post', 'private_key_jwt', 'none'] as const;
export type ClientAuthenticationMethod = (typeof CLIENT_AUTHENTICATION_METHODS)[number];

/** Signature algorithms for client assertions (RFC 7518 §3.1, RFC 8037 §3.1), the usual ones first. */
export const CLIENT_ASSERTION_ALGORITHMS = ['RS256', 'PS256', 'ES256', 'ES384', 'RS384', 'RS512', 'PS384', 'PS512', 'ES512', 'EdDSA'] as const;
export type ClientAssertionAlgorithm = (typeof CLIENT_ASSERTION_ALGORITHMS)[number];

/** By which header member the provider finds the key: its id, or the certificate's thumbprint (RFC 7515 §4.1.4, §4.1.7, §4.1.8). */
export const KEY_NAMES = ['kid', 'x5t', 'x5t#S256'] as const;

/** What a client keeps secret. `password`: that of a service user, sent where a secret is sent. */
export const SECRET_KINDS = ['secret', 'password', 'certificate', 'key'] as const;
export type SecretKind = (typeof SECRET_KINDS)[number];

/** The kinds with which a client can authenticate by this method. */
export const kindsFor = (method: ClientAuthenticationMethod): readonly SecretKind[] =>
  method === 'none' ? [] : method === 'private_key_jwt' ? ['certificate', 'key'] : ['secret', 'password'];
