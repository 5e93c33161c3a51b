import type { ProviderDefinition } from '../provider/definition.ts';
import { codeChallenge } from './pkce.ts';

export interface AuthorizationRequest {
  clientId: string;
  redirectUri: string;
  scopes: readonly string[];
  state: string;
  /** Null where the dialect says `pkce: none`. */
  verifier: string | null;
}

/** The address that the browser is sent to (RFC 6749 §4.1.1, RFC 7636 §4.3). Parameters already in the endpoint are kept (§3.1). */
export function authorizationUrl(definition: ProviderDefinition, request: AuthorizationRequest): string {
  const url = new URL(definition.server.authorization_endpoint);
  const set = (name: string, value: string) => url.searchParams.set(name, value);
  set('response_type', 'code');
  set('client_id', request.clientId);
  set('redirect_uri', request.redirectUri);
  if (request.scopes.length > 0) set('scope', request.scopes.join(' '));
  const offline = definition.dialect.offline_parameter;
  if (offline) set(offline.name, offline.value);
  set('state', request.state);
  if (request.verifier !== null) {
    set('code_challenge', codeChallenge(request.verifier));
    set('code_challenge_method', 'S256');
  }
  return url.href;
}
