import type { Client, Registering } from '../../api/clients.ts';
import { Fault } from '../../core/fault.ts';
import { chooseMethod } from '../../core/oauth/client-authentication.ts';
import { type ClientAuthenticationMethod, kindsFor } from '../../core/oauth/methods.ts';
import { type ProviderDefinition, unconfirmedOrigins, withVariant } from '../../core/provider/definition.ts';
import { fillKnown } from '../../core/provider/placeholders.ts';
import { rehearsed } from '../../core/provider/rehearsal.ts';
import type { ClientRow } from '../store/clients.ts';
import type { SecretRow } from '../store/secrets.ts';

/** The definition as this client meets it: its variant, with its own values; those requested at connections stay as {names}. */
export const definitionFor = (
  whole: ProviderDefinition,
  record: Pick<ClientRow, 'environment' | 'variant' | 'placeholders' | 'rehearsalPort'>,
): ProviderDefinition => fillKnown(rehearsed(withVariant(whole, record.environment, record.variant), record.rehearsalPort), record.placeholders);

export const methodOf = (record: Pick<ClientRow, 'authMethod'>, definition: ProviderDefinition): ClientAuthenticationMethod =>
  record.authMethod ?? chooseMethod(definition.server.token_endpoint_auth_methods_supported);

/** Origins that nobody confirmed for this client. */
export const unconfirmedOf = (record: Pick<ClientRow, 'trustedOrigins'>, definition: ProviderDefinition): string[] =>
  unconfirmedOrigins(definition, record.trustedOrigins);

/** Nothing is sent where nobody confirmed that it may go. @throws {Fault} ORIGIN_UNCONFIRMED */
export function refuseUnconfirmed(origins: readonly string[]): void {
  if (origins.length > 0) throw new Fault('ORIGIN_UNCONFIRMED', { detail: `New: ${origins.join(', ')}.` });
}

/** What is missing before a connection can be opened; empty: ready. */
export function missingOf(
  record: ClientRow,
  definition: ProviderDefinition,
  secrets: readonly Pick<SecretRow, 'kind' | 'state' | 'startsAt'>[],
  now: number,
): string[] {
  const kinds = kindsFor(methodOf(record, definition));
  const kept = secrets.filter((one) => one.state !== 'retired' && kinds.includes(one.kind));
  const begins = Math.min(...kept.map((one) => one.startsAt));
  const what = kinds.includes('key') ? 'its certificate or key' : 'the client secret';
  const values = record.placeholders;
  return [
    ...(record.clientId === null ? ['the client id'] : []),
    ...(kinds.length === 0 || kept.length > 0 ? [] : [what]),
    ...(kept.length > 0 && begins > now ? [`a secret that is good today: the one entered begins on ${new Date(begins).toISOString().slice(0, 10)}`] : []),
    ...definition.placeholders.filter((one) => one.level === 'client' && !values[one.name]).map((one) => one.title),
  ];
}

/** What is remembered of registering this client. */
export const registeringOf = (record: Pick<ClientRow, 'registering'>): Registering & { requests: Client['requests'] } => ({
  done: [],
  purpose: null,
  requested_on: null,
  request_form: '',
  expected_on: null,
  notes: '',
  own_page: '',
  registered_by: '',
  approved_on: null,
  redirect_uris_there: null,
  domains_there: null,
  requests: [],
  ...((record.registering ?? {}) as Partial<Registering & { requests: Client['requests'] }>),
});

/** A secret that nobody may try before someone says that it was uploaded: tried no sooner than in the year 9000. */
export const WAITS_UNTIL = Date.UTC(9000, 0, 1);
