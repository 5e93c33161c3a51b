import type { Secret } from '../secret.ts';

export type ClientAuthenticationMethod = 'client_secret_basic' | 'client_secret_post';

export interface ClientCredentials {
  clientId: string;
  secret: Secret;
  method: ClientAuthenticationMethod;
}

/** application/x-www-form-urlencoded, as RFC 6749 Appendix B asks: `+` for a space, `*-._` kept. */
const formEncode = (text: string): string => new URLSearchParams({ v: text }).toString().slice(2);

/**
 * Puts the client's id and secret into a token request (RFC 6749 §2.3.1).
 * Basic form-encodes both before joining them; providers that do not decode will get a dialect switch.
 */
export function authenticateClient(credentials: ClientCredentials, form: URLSearchParams, headers: Record<string, string>): void {
  if (credentials.method === 'client_secret_basic') {
    const pair = `${formEncode(credentials.clientId)}:${formEncode(credentials.secret.reveal())}`;
    headers.authorization = `Basic ${Buffer.from(pair, 'utf8').toString('base64')}`;
    return;
  }
  form.set('client_id', credentials.clientId);
  form.set('client_secret', credentials.secret.reveal());
}

/** The first method that the provider's metadata lists; RFC 8414 §2 makes Basic the default. */
export const chooseMethod = (supported: readonly ClientAuthenticationMethod[]): ClientAuthenticationMethod => supported[0] ?? 'client_secret_basic';
