import { addressesOf } from '../../core/provider/addresses.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';

const addressNames: Record<string, string> = {
  'server.authorization_endpoint': 'Authorization',
  'server.token_endpoint': 'Token',
  'server.userinfo_endpoint': 'User info',
  'server.revocation_endpoint': 'Revocation',
  'identity.endpoint': 'Identity',
};

/** The addresses that matter, composed. */
export const shownAddresses = (definition: ProviderDefinition): { what: string; address: string }[] =>
  addressesOf(definition).flatMap(({ path, value }) => {
    const what = path[0] === 'apis' ? `API: ${definition.apis[Number(path[1])]?.title ?? ''}` : addressNames[path.join('.')];
    return what === undefined ? [] : [{ what, address: value }];
  });
