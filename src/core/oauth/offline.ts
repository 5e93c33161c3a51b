import type { ProviderDefinition } from '../provider/definition.ts';

type Server = Pick<ProviderDefinition, 'server' | 'dialect'>;

/** True for a request of OpenID Connect (Core §3.1.2.1). */
export const asksOpenid = (scopes: readonly string[]): boolean => scopes.includes('openid');

/** True where a refresh token is requested: by the scope of OpenID Connect Core §11, or by the provider's own parameter. */
const asksOffline = ({ dialect }: Pick<ProviderDefinition, 'dialect'>, scopes: readonly string[]): boolean =>
  scopes.includes('offline_access') || dialect.offline_parameter !== undefined;

/** True where the provider knows `prompt=consent`: an OpenID provider, unless its metadata lists other values alone; or the dialect shows it. */
function knowsConsentPrompt({ server, dialect }: Server, scopes: readonly string[]): boolean {
  if (dialect.consent_prompt !== 'automatic') return dialect.consent_prompt !== 'never';
  if (server.prompt_values_supported && !server.prompt_values_supported.includes('consent')) return false;
  return asksOpenid(scopes) || server.prompt_values_supported !== undefined;
}

/**
 * The `prompt` of an authorization request, or null. OpenID Connect Core §11: `offline_access` is ignored without `prompt=consent`. A person
 * who unticked a scope, or who reconnects on purpose, must see the consent page again, though the provider remembers the answer.
 * @param reconsent a requested scope is missing, or the connection had a grant before
 */
export function consentPrompt(definition: Server, scopes: readonly string[], reconsent: boolean): string | null {
  if (definition.dialect.authorization_parameters.prompt !== undefined) return null; // the dialect names its own
  if (!knowsConsentPrompt(definition, scopes)) return null;
  const offline = asksOpenid(scopes) && scopes.includes('offline_access');
  return definition.dialect.consent_prompt === 'always' || offline || reconsent ? 'consent' : null;
}

/** What to do where no refresh token came: never what was done already. */
export function noRefreshTokenRemedy(definition: Server, scopes: readonly string[]): string {
  if (asksOffline(definition, scopes))
    return 'Offline access was requested. Check at the provider that this client may use the refresh_token grant type, then reconnect.';
  const catalogue = definition as Partial<Pick<ProviderDefinition, 'scopes'>>;
  return catalogue.scopes?.some((scope) => scope.name === 'offline_access')
    ? 'Add the scope offline_access to the connection, then reconnect.'
    : 'Request offline access: look up the scope or parameter on the provider\u2019s pages, add it, then reconnect.';
}
