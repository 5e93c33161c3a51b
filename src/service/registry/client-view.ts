import type { Client, ClientSecret, Registering } from '../../api/clients.ts';
import { secretInWords } from '../../core/clients/choose-secret.ts';
import { strengthOf } from '../../core/clients/strength.ts';
import { Fault } from '../../core/fault.ts';
import { chooseMethod } from '../../core/oauth/client-authentication.ts';
import type { KeyFacts } from '../../core/oauth/client-keys.ts';
import { type ClientAuthenticationMethod, kindsFor, type SecretKind } from '../../core/oauth/methods.ts';
import { type Environment, type ProviderDefinition, unconfirmedOrigins, withVariant } from '../../core/provider/definition.ts';
import { guideFor, purposesOf } from '../../core/provider/guide.ts';
import { addressesOf, fillKnown, type PlaceholderValues } from '../../core/provider/placeholders.ts';
import type { Row } from '../store/tables.ts';
import { iso, isoOrNull, type Services } from './services.ts';

export type ClientRow = Row<'clients'>;
export type SecretRow = Row<'clientSecrets'>;

/** The definition as this client meets it: its variant, with its own values; those asked for at connections stay as {names}. */
export const definitionFor = (whole: ProviderDefinition, record: Pick<ClientRow, 'environment' | 'variant' | 'placeholders'>): ProviderDefinition =>
  fillKnown(withVariant(whole, record.environment as Environment, record.variant), record.placeholders as PlaceholderValues);

export const methodOf = (record: Pick<ClientRow, 'authMethod'>, definition: ProviderDefinition): ClientAuthenticationMethod =>
  (record.authMethod as ClientAuthenticationMethod | null) ?? chooseMethod(definition.server.token_endpoint_auth_methods_supported);

/** Origins that nobody confirmed for this client. */
export const unconfirmedOf = (record: Pick<ClientRow, 'trustedOrigins'>, definition: ProviderDefinition): string[] =>
  unconfirmedOrigins(definition, record.trustedOrigins as string[] | null);

/** Nothing is sent where nobody confirmed that it may go. @throws {Fault} ORIGIN_UNCONFIRMED */
export function refuseUnconfirmed(origins: readonly string[]): void {
  if (origins.length > 0) throw new Fault('ORIGIN_UNCONFIRMED', { detail: `New: ${origins.join(', ')}.` });
}

/** What is missing before a connection can be opened; empty: ready. */
export function missingOf(record: ClientRow, definition: ProviderDefinition, secrets: readonly Pick<SecretRow, 'kind' | 'state'>[]): string[] {
  const kinds = kindsFor(methodOf(record, definition));
  const usable = secrets.some((one) => one.state !== 'retired' && kinds.includes(one.kind as SecretKind));
  const what = kinds.includes('key') ? 'its certificate or key' : 'the client secret';
  const values = record.placeholders as PlaceholderValues;
  return [
    ...(record.clientId === null ? ['the client id'] : []),
    ...(kinds.length === 0 || usable ? [] : [what]),
    ...definition.placeholders.filter((one) => one.level === 'client' && !values[one.name]).map((one) => one.title),
  ];
}

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

/** A secret that nobody may try before somebody says that it was uploaded: tried no sooner than in the year 9000. */
export const WAITS_UNTIL = Date.UTC(9000, 0, 1);

export function secretView(row: SecretRow, now: number): ClientSecret {
  const facts = row.facts as KeyFacts | null;
  const known = {
    ...row,
    waits: row.tryingUntil !== null && row.tryingUntil >= WAITS_UNTIL,
    kind: row.kind as SecretKind,
    state: row.state as ClientSecret['state'],
    enteredAt: row.enteredAt ?? row.startsAt,
  };
  return {
    id: row.id,
    kind: known.kind,
    label: row.label,
    state: known.state,
    says: secretInWords(known, now),
    entered_at: iso(known.enteredAt),
    starts_at: iso(row.startsAt),
    ends_at: isoOrNull(row.endsAt),
    proved_at: isoOrNull(row.provedAt),
    refused_at: isoOrNull(row.refusedAt),
    evidence: row.refusedWhy,
    key: facts ? { type: facts.type, kid: facts.kid, x5t: facts.x5t, x5t_s256: facts.x5tS256, subject: facts.subject } : null,
  };
}

/** One word by precedence, with cause and remedy. */
function stateOf(record: ClientRow, missing: string[], unconfirmed: string[]): Pick<Client, 'state' | 'cause' | 'remedy'> {
  const says = (state: Client['state'], cause: string | null, remedy: string | null) => ({ state, cause, remedy });
  if (record.stage === 'retired') return says('retired', 'It was retired.', 'Use another client.');
  if (missing.length > 0)
    return says(
      'draft',
      `Missing: ${missing.join(' and ')}.`,
      'Register the client at the provider with the redirect URI shown, then enter what it gives you.',
    );
  if (unconfirmed.length > 0)
    return says(
      'stopped',
      `New addresses are not confirmed: ${unconfirmed.join(', ')}. Nothing is sent there.`,
      'If they are the provider\u2019s, confirm them with your own password.',
    );
  if (record.health === 'stopped')
    return says(
      'stopped',
      `The provider refuses this client: ${record.evidence ?? 'no evidence kept'}.`,
      'Compare the client id, and enter the secret again as the provider shows it now.',
    );
  switch (record.approval) {
    case 'refused':
      return says('refused', 'The provider refused its approval.', 'Ask again there, or use another client.');
    case 'they_ask_back':
      return says('they_ask_back', 'The provider has asked back.', 'Answer them; then say so here.');
    case 'asked':
      return says('asked', 'Its approval was asked for and has not come.', 'Wait; connections may be refused until then.');
    case 'not_asked':
      return says('not_asked', 'The provider wants to approve clients, and nobody has asked yet.', 'Ask for approval on the provider\u2019s page.');
    default:
      return says('working', null, null);
  }
}

/** What is remembered of registering this client. */
export const registeringOf = (record: Pick<ClientRow, 'registering'>): Registering => ({
  done: [],
  purpose: null,
  asked_on: null,
  asked_by: '',
  expected_on: null,
  notes: '',
  own_page: '',
  registered_by: '',
  ...((record.registering ?? {}) as Partial<Registering>),
});

/** The values that a step of the guide may hold. */
const guideValues = (record: ClientRow, definition: ProviderDefinition, registered: string[]): PlaceholderValues => ({
  ...(record.placeholders as PlaceholderValues),
  redirect_uri: record.redirectUri,
  client_title: record.title || record.name,
  home_page: new URL(record.redirectUri).origin,
  scopes: (registered.length > 0 ? registered : definition.scopes.filter((scope) => scope.preset).map((scope) => scope.name)).join(' '),
});

export async function clientView(s: Pick<Services, 'tables' | 'ports'>, record: ClientRow, definition: ProviderDefinition): Promise<Client> {
  const [secrets, connections] = await Promise.all([
    s.tables.clientSecrets.list({ clientId: record.id }, 'startsAt'),
    s.tables.connections.list({ clientId: record.id }),
  ]);
  const now = s.ports.clock.now();
  const kept = secrets.filter((one) => one.state !== 'retired');
  const newest = kept.filter((one) => one.state === 'active').at(-1) ?? kept.at(-1);
  const missing = missingOf(record, definition, secrets);
  const unconfirmed = unconfirmedOf(record, definition);
  const registered = (record.registeredScopes as string[] | null) ?? [];
  const registering = registeringOf(record);
  const strength = strengthOf(definition.scopes, registered, record.type);
  return {
    provider: definition.name,
    provider_title: definition.title,
    name: record.name,
    title: record.title,
    type: record.type as Client['type'],
    environment: record.environment as Client['environment'],
    variant:
      definition.variants.find((one) => (record.variant === null ? one.environments.includes(record.environment as Environment) : one.name === record.variant))
        ?.name ?? null,
    placeholders: record.placeholders as PlaceholderValues,
    addresses: shownAddresses(definition),
    client_id: record.clientId,
    method: methodOf(record, definition),
    methods: definition.server.token_endpoint_auth_methods_supported,
    redirect_uri: record.redirectUri,
    registration_page: definition.registration.page?.includes('{') ? null : (definition.registration.page ?? null),
    words: definition.words as Record<string, string>,
    ...stateOf(record, missing, unconfirmed),
    stage: record.stage as Client['stage'],
    approval: record.approval as Client['approval'],
    reach: record.reach as Client['reach'],
    reach_says: definition.reach.find((one) => one.reach === record.reach)?.says ?? null,
    listed_accounts: (record.listedAccounts as string[] | null) ?? [],
    health: record.health as Client['health'],
    missing,
    guide: guideFor(definition, guideValues(record, definition, registered), registering),
    purposes: purposesOf(definition),
    registering,
    unconfirmed_origins: unconfirmed,
    registered_scopes: registered,
    strength: { power: strength.power, acts_for_itself: strength.actsForItself, unlisted: strength.unlisted, says: strength.says },
    secret: newest
      ? { entered_at: iso(newest.enteredAt ?? newest.startsAt), ends_at: isoOrNull(newest.endsAt), in_use: kept.filter((one) => one.state === 'active').length }
      : null,
    secrets: secrets.map((one) => secretView(one, now)).reverse(),
    connections: connections.length,
    revision: record.revision,
  };
}
