import type { ProviderDefinition } from '../provider/definition.ts';
import type { Secret } from '../secret.ts';
import { authenticateClient, type ClientCredentials, signedAssertion } from './client-authentication.ts';
import { WIRE_GRANT_TYPES } from './grant-kinds.ts';
import { hidesOf } from './masked.ts';
import type { WireRequest } from './wire.ts';

const TOKEN_ANSWER_LIMIT_BYTES = 256 * 1024;

export type TokenRequest =
  | { grantType: 'authorization_code'; code: Secret; redirectUri: string | null; verifier: Secret | null }
  | { grantType: 'refresh_token'; refreshToken: Secret }
  | { grantType: 'client_credentials'; scopes: readonly string[] }
  /** `subject`: the account for which the service account acts. */
  | { grantType: 'jwt_bearer'; subject: string; scopes: readonly string[] }
  | { grantType: 'device_code'; deviceCode: Secret };

/** What makes one request unlike every other: when it is made (epoch ms), how long it may take, and an id never used before. */
export interface RequestOnce {
  now: number;
  deadlineMs: number;
  jti: string;
}

/** Scopes as this provider separates them (RFC 6749 §3.3 says: by a space). */
export const joinScopes = (dialect: Pick<ProviderDefinition['dialect'], 'scope_separator'>, scopes: readonly string[]): string =>
  scopes.join(dialect.scope_separator);

/**
 * Builds a token request: RFC 6749 §4.1.3 for a code (with RFC 7636 §4.5), §6 for a refresh token, §4.4.2 for a client's own token,
 * RFC 7523 §2.1 for a service account's assertion, RFC 8628 §3.4 for a device code; with RFC 8707 §2.2 where a resource is named, and the dialect's parameters, headers and form.
 */
export async function tokenRequest(
  definition: ProviderDefinition,
  credentials: ClientCredentials,
  request: TokenRequest,
  once: RequestOnce,
): Promise<WireRequest> {
  const { dialect } = definition;
  const parameters = new Map<string, string>([['grant_type', WIRE_GRANT_TYPES[request.grantType]], ...Object.entries(dialect.token_parameters)]);
  if (dialect.resource) parameters.set('resource', dialect.resource);
  switch (request.grantType) {
    case 'authorization_code':
      parameters.set('code', request.code.reveal());
      // RFC 6749 §4.1.3: only where the authorization request held one; a code printed by the provider's console had no request.
      if (request.redirectUri !== null) parameters.set('redirect_uri', request.redirectUri);
      if (request.verifier) parameters.set('code_verifier', request.verifier.reveal());
      break;
    case 'refresh_token':
      parameters.set('refresh_token', request.refreshToken.reveal());
      break;
    case 'client_credentials':
      if (request.scopes.length > 0) parameters.set('scope', joinScopes(dialect, request.scopes));
      break;
    case 'jwt_bearer': {
      const inClaim = dialect.assertion_grant.scope_in === 'claim';
      const claims = inClaim && request.scopes.length > 0 ? { scope: joinScopes(dialect, request.scopes) } : {};
      parameters.set('assertion', await signedAssertion(definition, credentials, { subject: request.subject, claims }, once));
      if (!inClaim && request.scopes.length > 0) parameters.set('scope', joinScopes(dialect, request.scopes));
      break;
    }
    case 'device_code':
      parameters.set('device_code', request.deviceCode.reveal());
      break;
    default:
      request satisfies never;
  }
  const asJson = dialect.token_request === 'json';
  const headers: Record<string, string> = {
    ...dialect.token_headers,
    'content-type': asJson ? 'application/json' : 'application/x-www-form-urlencoded',
    accept: 'application/json',
  };
  // The assertion of RFC 7523 §2.1 says who asks; authentication beside it is optional (§3.1).
  if (request.grantType !== 'jwt_bearer' || dialect.assertion_grant.client_authentication)
    await authenticateClient(definition, credentials, { parameters, headers }, once);
  const body = asJson ? JSON.stringify(Object.fromEntries(parameters)) : new URLSearchParams([...parameters]).toString();
  const hides = [...hiddenOf(request), ...hidesOf(credentials)];
  return { method: 'POST', url: definition.server.token_endpoint, headers, body, deadlineMs: once.deadlineMs, limitBytes: TOKEN_ANSWER_LIMIT_BYTES, hides };
}

/** What a request holds besides the client's secret that nobody may read afterwards. */
function hiddenOf(request: TokenRequest): Secret[] {
  switch (request.grantType) {
    case 'authorization_code':
      return [request.code, ...(request.verifier ? [request.verifier] : [])];
    case 'refresh_token':
      return [request.refreshToken];
    case 'device_code':
      return [request.deviceCode];
    default:
      return [];
  }
}
