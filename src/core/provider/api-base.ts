import { parseUrl } from '../url.ts';
import type { ProviderDefinition } from './definition.ts';
import { isWebAddress } from './web-address.ts';

/** True for a base URL from a token answer whose host the definition lists: a token is sent nowhere else. */
export function apiBaseAllowed(definition: Pick<ProviderDefinition, 'api_hosts'>, address: string): boolean {
  const host = parseUrl(address)?.hostname;
  if (host === undefined || !isWebAddress(address) || /[{}?#]/.test(address)) return false;
  return definition.api_hosts.some((pattern) =>
    pattern.startsWith('*.') ? host.endsWith(pattern.slice(1)) && host.length > pattern.length - 1 : host === pattern,
  );
}

/** The definition with the API at the address that the grant's own answer named. */
export const withApiBase = (definition: ProviderDefinition, address: string | null): ProviderDefinition =>
  address === null || !apiBaseAllowed(definition, address)
    ? definition
    : { ...definition, apis: definition.apis.map((api, at) => (at === 0 ? { ...api, base_url: address.replace(/\/$/, '') } : api)) };
