import type { ProviderDefinition } from '../provider/definition.ts';
import type { Secret } from '../secret.ts';
import { authenticateClient, type ClientCredentials } from './client-authentication.ts';
import type { WireRequest } from './wire.ts';

const TOKEN_ANSWER_LIMIT_BYTES = 256 * 1024;

export type TokenRequest =
  | { grantType: 'authorization_code'; code: Secret; redirectUri: string; verifier: Secret | null }
  | { grantType: 'refresh_token'; refreshToken: Secret };

/** Builds a token request: RFC 6749 §4.1.3 for a code (with RFC 7636 §4.5), §6 for a refresh token. */
export function tokenRequest(definition: ProviderDefinition, credentials: ClientCredentials, request: TokenRequest, deadlineMs: number): WireRequest {
  const form = new URLSearchParams({ grant_type: request.grantType });
  if (request.grantType === 'authorization_code') {
    form.set('code', request.code.reveal());
    form.set('redirect_uri', request.redirectUri);
    if (request.verifier) form.set('code_verifier', request.verifier.reveal());
  } else {
    form.set('refresh_token', request.refreshToken.reveal());
  }
  const headers: Record<string, string> = { 'content-type': 'application/x-www-form-urlencoded', accept: 'application/json' };
  authenticateClient(credentials, form, headers);
  return { method: 'POST', url: definition.server.token_endpoint, headers, body: form.toString(), deadlineMs, limitBytes: TOKEN_ANSWER_LIMIT_BYTES };
}
