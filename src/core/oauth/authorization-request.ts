import { Fault } from '../fault.ts';
import type { ProviderDefinition } from '../provider/definition.ts';
import { asksOpenid, consentPrompt } from './offline.ts';
import { codeChallenge } from './pkce.ts';
import { joinScopes } from './token-request.ts';

export interface AuthorizationRequest {
  clientId: string;
  redirectUri: string;
  scopes: readonly string[];
  state: string;
  /** Null where the dialect states `pkce: none`. */
  verifier: string | null;
  /** Sent where `openid` is requested. */
  nonce?: string;
  /** The account that is expected to consent. */
  expectedAccount?: string | null;
  /** The person must see the consent page again, though the provider remembers an answer. */
  reconsent?: boolean;
}

/**
 * The address that the browser is sent to (RFC 6749 §4.1.1, RFC 7636 §4.3). Parameters already in the endpoint are kept (§3.1).
 * @throws {Fault} DEFINITION_UNSUPPORTED where nobody can consent.
 */
export function authorizationUrl(definition: ProviderDefinition, request: AuthorizationRequest): string {
  const endpoint = definition.server.authorization_endpoint;
  if (endpoint === undefined) throw new Fault('DEFINITION_UNSUPPORTED', { detail: `${definition.title} names no authorization endpoint: nobody can consent.` });
  const url = new URL(endpoint);
  const set = (name: string, value: string) => url.searchParams.set(name, value);
  set('response_type', 'code');
  set('client_id', request.clientId);
  set('redirect_uri', request.redirectUri);
  if (request.scopes.length > 0) set('scope', joinScopes(definition.dialect, request.scopes));
  for (const [name, value] of Object.entries(definition.dialect.authorization_parameters)) set(name, value);
  const offline = definition.dialect.offline_parameter;
  if (offline) set(offline.name, offline.value);
  if (definition.dialect.resource) set('resource', definition.dialect.resource); // RFC 8707 §2.1
  const openid = asksOpenid(request.scopes);
  if (openid && request.nonce) set('nonce', request.nonce);
  const prompt = consentPrompt(definition, request.scopes, request.reconsent === true);
  if (prompt) set('prompt', prompt);
  const hint = definition.dialect.login_hint ?? (openid ? 'login_hint' : null);
  if (hint && request.expectedAccount) set(hint, request.expectedAccount);
  set('state', request.state);
  if (request.verifier !== null) {
    set('code_challenge', codeChallenge(request.verifier));
    set('code_challenge_method', 'S256');
  }
  return url.href;
}
