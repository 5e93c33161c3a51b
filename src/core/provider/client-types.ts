import { WIRE_GRANT_TYPES } from '../oauth/grant-kinds.ts';
import type { ClientType } from './kinds.ts';

/** The types of client that can be started at a provider: those that its definition names, and service accounts where clients may ask for themselves. */
export function clientTypesOf(definition: {
  registration: { client_types: ClientType[] };
  server: { grant_types_supported: readonly string[] };
}): ClientType[] {
  const { client_types: named } = definition.registration;
  const forItself = ['client_credentials', WIRE_GRANT_TYPES.jwt_bearer].some((one) => definition.server.grant_types_supported.includes(one));
  return forItself && !named.includes('service_account') ? [...named, 'service_account'] : named;
}
