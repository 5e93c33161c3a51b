import type { BodyOf } from '../../api/operations.ts';

/** Four ways in; each ends in a definition that can be looked at, changed, and added. */
export const PROVIDER_WAYS = {
  issuer: 'Issuer or metadata',
  openapi: 'OpenAPI document',
  short_form: 'Four fields',
  definition: 'Definition file',
} as const;
export type ProviderWay = keyof typeof PROVIDER_WAYS;

/** name=value, a line or an & apart. */
const pairs = (typed: string): Record<string, string> =>
  Object.fromEntries(
    typed
      .split(/[&\n]+/)
      .map((one) => one.trim())
      .filter(Boolean)
      .map((one) => (one.includes('=') ? [one.slice(0, one.indexOf('=')), one.slice(one.indexOf('=') + 1)] : [one, ''])),
  );

/** What the form for a provider holds. Runs without a page. */
export class ProviderDraft {
  way = $state<ProviderWay>('issuer');
  address = $state('');
  apiCall = $state('');
  authorizationUrl = $state('');
  tokenUrl = $state('');
  scopes = $state('');
  document = $state('');
  name = $state('');
  title = $state('');
  method = $state<'' | 'client_secret_basic' | 'client_secret_post' | 'private_key_jwt' | 'none'>('');
  delimiter = $state<' ' | ',' | ';' | '+'>(' ');
  authorization = $state('');
  token = $state('');

  body(): BodyOf<'draftProvider'> {
    const [name, title] = [this.name.trim(), this.title.trim()];
    const named = { ...(name ? { name } : {}), ...(title ? { title } : {}) };
    switch (this.way) {
      case 'issuer':
        return { from: 'issuer', address: this.address, api_call: this.apiCall, ...named };
      case 'openapi':
        return { from: 'openapi', address: this.document ? '' : this.address, document: this.document, ...named };
      case 'short_form':
        return {
          from: 'short_form',
          authorization_url: this.authorizationUrl,
          token_url: this.tokenUrl,
          api_call: this.apiCall,
          scopes: this.scopes,
          scope_separator: this.delimiter,
          authorization_parameters: pairs(this.authorization),
          token_parameters: pairs(this.token),
          ...(this.method ? { method: this.method } : {}),
          ...named,
        };
      default:
        return { from: 'definition', document: this.document };
    }
  }
}
