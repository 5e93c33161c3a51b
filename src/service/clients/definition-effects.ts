import { chooseMethod } from '../../core/oauth/client-authentication.ts';
import { clientTypesOf } from '../../core/provider/client-types.ts';
import { isSpendable, type ProviderDefinition, trustedOrigins, unconfirmedOrigins } from '../../core/provider/definition.ts';
import type { PlaceholderValues } from '../../core/provider/placeholder-text.ts';
import { definitionFor, methodOf } from '../records/index.ts';
import type { ClientRow } from '../store/clients.ts';
import type { ConnectionRow } from '../store/connections.ts';

/** What a changed definition does to one client and its connections; `rejected`: why it must not be saved. */
export function effectOn(
  before: ProviderDefinition,
  after: ProviderDefinition,
  client: ClientRow,
  connections: ConnectionRow[],
): { says: string[]; refused: string[] } {
  const [old, now] = [definitionFor(before, client), definitionFor(after, client)];
  const name = `${before.name}/${client.name}`;
  const says: string[] = [];
  const refused: string[] = [];
  const confirmed = client.trustedOrigins ?? trustedOrigins(old);
  const fresh = unconfirmedOrigins(now, confirmed);
  if (fresh.length > 0)
    says.push(`Its secret and tokens would go to ${fresh.join(', ')}: nothing is sent until an operator confirms that with their own password.`);
  for (const endpoint of ['authorization_endpoint', 'token_endpoint'] as const)
    if (old.server[endpoint] !== now.server[endpoint]) says.push(`Its ${endpoint.replaceAll('_', ' ')} becomes ${now.server[endpoint] ?? 'none'}.`);
  const method = methodOf(client, old);
  if (!now.server.token_endpoint_auth_methods_supported.includes(method))
    refused.push(`${name} authenticates by ${method}, which the new definition does not know.`);
  else if (client.authMethod === null && chooseMethod(now.server.token_endpoint_auth_methods_supported) !== method)
    says.push(`It would authenticate by ${chooseMethod(now.server.token_endpoint_auth_methods_supported)} instead of ${method}.`);
  if (!clientTypesOf(now).includes(client.type)) refused.push(`${name} is of the type ${client.type}, which the new definition does not know.`);
  if (client.variant !== null && !after.variants.some((one) => one.name === client.variant))
    refused.push(`${name} uses the variant ${client.variant}, which the new definition does not have.`);
  const values = client.placeholders;
  for (const one of after.placeholders.filter((placeholder) => placeholder.level === 'client'))
    if (values[one.name] === undefined) says.push(`It has no ${one.title} yet: it is a draft until one is entered.`);
  const own = after.placeholders.filter((placeholder) => placeholder.level === 'connection').map((one) => one.name);
  const lacking = connections.filter((connection) =>
    own.some((placeholder) => ((connection.placeholders ?? {}) as PlaceholderValues)[placeholder] === undefined),
  );
  if (lacking.length > 0) refused.push(`${lacking.length} connections of ${name} have no value for ${own.join(', ')}, such as ${lacking[0]?.name}.`);
  if (connections.length > 0) {
    const catalogue = new Set(now.scopes.map((scope) => scope.name));
    const gone = [...new Set(connections.flatMap((connection) => connection.scopes))].filter(
      (scope) => catalogue.size > 0 && !catalogue.has(scope) && old.scopes.some((one) => one.name === scope),
    );
    if (gone.length > 0) says.push(`Its connections request scopes that are no longer listed: ${gone.join(', ')}. Their tokens are not touched.`);
    for (const field of ['rotation', 'reuse', 'assumed_life_seconds', 'idle_life_seconds'] as const)
      if (old.dialect[field] !== now.dialect[field])
        says.push(`From the next renewal on: ${field.replaceAll('_', ' ')} is ${String(now.dialect[field] ?? 'not known').replaceAll('_', ' ')}.`);
    if (isSpendable(old.dialect) && !isSpendable(now.dialect))
      says.push('Renewals would be sent without being written down first: right only if a refresh token is never spent by its use.');
    for (const grantType of new Set(connections.map((connection) => connection.grantType)))
      if (!now.server.grant_types_supported.includes(grantType))
        refused.push(`${name} has connections by ${grantType}, which the new definition does not know.`);
  }
  return { says, refused };
}
