/** A client's certificate (RFC 8705), from the TLS handshake or as a trusted proxy passed it. */
export interface PresentedCertificate {
  /** PEM, percent-encoded or not, or base64 of DER in colons (RFC 9440). */
  text: string;
  /** An authority that is trusted signed it: only then its subject counts. */
  isVerified: boolean;
}

/** A request to one of our OAuth endpoints and its answer, free of any HTTP library. */
export interface OAuthRequest {
  contentType: string | undefined;
  authorization: string | undefined;
  query: string;
  body: string;
  address: string;
  /** The certificate of the client. */
  certificate?: PresentedCertificate | undefined;
}
export interface OAuthAnswer {
  status: number;
  /** Names and values in turn, as node:http takes them fastest. */
  headers: string[];
  /** JSON, or nothing. */
  body: string;
}

/** RFC 6749 §5.2, RFC 8707 §2 (`invalid_target`), RFC 7009 §2.2.1, and our extension for what is temporary. */
export type OAuthError =
  | 'invalid_request'
  | 'invalid_client'
  | 'invalid_grant'
  | 'unauthorized_client'
  | 'unsupported_grant_type'
  | 'invalid_target'
  | 'invalid_scope'
  | 'temporarily_unavailable';

export const OAUTH_HEADERS = ['cache-control', 'no-store', 'pragma', 'no-cache', 'content-type', 'application/json', 'x-content-type-options', 'nosniff'];
export const CHALLENGE = { 'www-authenticate': 'Basic realm="rusty-kettle"' };

/** An answer that rejects, thrown from any depth of an endpoint. */
export class Refusal extends Error {
  readonly answer: OAuthAnswer;
  constructor(status: number, error: OAuthError, description: string, more: { headers?: Record<string, string>; uri?: string } = {}) {
    super(description);
    this.answer = {
      status,
      headers: [...OAUTH_HEADERS, ...Object.entries(more.headers ?? {}).flat()],
      body: JSON.stringify({ error, error_description: ascii(description), ...(more.uri ? { error_uri: more.uri } : {}) }),
    };
  }
}

/** RFC 6749 §5.2 allows %x20-21 / %x23-5B / %x5D-7E in a description: no typographic quotes, no double quote, no backslash. */
export const ascii = (text: string): string =>
  text
    .replace(/[\u2018\u2019\u201c\u201d"]/g, "'")
    .replace(/\u00a7/g, 'section ')
    .replace(/[^\x20-\x7e]|\\/g, '?');

/** For requests that never reach the checks: another method, or a body too large to read. */
export const malformedRequest = (status: number, description: string): OAuthAnswer => new Refusal(status, 'invalid_request', description).answer;
