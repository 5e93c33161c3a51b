import { randomBytes } from 'node:crypto';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import type { RegistrationPart } from '../../core/provider/registration.ts';
import { opaque } from '../answers.ts';
import type { KeptSecret, RegisteredClient } from '../state.ts';

/** The parts of a console where its definition names none: what such a client cannot do without. */
const usualParts = (definition: ProviderDefinition): RegistrationPart[] => {
  const { server, registration } = definition;
  const methods = server.token_endpoint_auth_methods_supported;
  const parts: [RegistrationPart, boolean][] = [
    ['access_request', registration.approval === 'needed'],
    ['redirect_uris', server.authorization_endpoint !== undefined],
    ['reach', definition.reach.length > 1],
    ['secrets', methods.some((method) => method.startsWith('client_secret'))],
    ['certificates', methods.includes('private_key_jwt')],
    ['printed_code', registration.client_types.includes('printed_code')],
  ];
  return parts.flatMap(([part, there]) => (there ? [part] : []));
};

const USUAL_TITLES: Record<RegistrationPart, string> = {
  project: 'Project',
  type: 'Type',
  consent_page: 'What people see',
  apis: 'APIs',
  scopes: 'Scopes',
  domains: 'Domains',
  redirect_uris: 'Redirect URIs',
  reach: 'Who may sign in',
  secrets: 'Secrets',
  certificates: 'Certificates',
  service_user: 'Service user',
  access_request: 'Access request',
  printed_code: 'Print a code',
};

export const partsOf = (definition: ProviderDefinition): { part: RegistrationPart; title: string }[] =>
  definition.registration.parts.length > 0 ? definition.registration.parts : usualParts(definition).map((part) => ({ part, title: USUAL_TITLES[part] }));

export const hasPart = (definition: ProviderDefinition, part: RegistrationPart): boolean => partsOf(definition).some((one) => one.part === part);

/** What ids begin with where it is not the provider's name. */
const ID_PREFIXES: Record<string, string> = { ledgerfin: 'lf-svc', notchboard: 'nb', bosunry: 'bos', deckhail: 'dh', oakum: 'OAK' };

/** A client as its console makes it: nothing is opened, listed or saved yet. */
export function newClient(definition: ProviderDefinition, realm: string, name: string, now: number): RegisteredClient {
  return {
    id: `${ID_PREFIXES[definition.name] ?? definition.name}-${randomBytes(6).toString('hex')}`,
    name,
    realm,
    registeredAt: now,
    project: '',
    type: definition.registration.client_types[0] ?? 'web',
    secrets: [],
    certificates: [],
    redirectUris: [],
    unsavedUris: null,
    domains: [],
    apis: hasPart(definition, 'apis') ? [] : definition.apis.map((api) => api.name),
    scopes: hasPart(definition, 'scopes') ? [] : definition.scopes.map((scope) => scope.name),
    reach: hasPart(definition, 'reach') ? (definition.reach[0]?.reach ?? 'listed') : 'anyone',
    listed: [],
    consentPage: {},
    serviceUser: null,
    approval: { state: hasPart(definition, 'access_request') ? 'not_requested' : 'approved', answers: {}, says: '', changedAt: now },
  };
}

/** A client with which everything is in order, as if someone had gone through all of its console. */
export function openClient(definition: ProviderDefinition, realm: string, name: string, now: number): RegisteredClient {
  return {
    ...newClient(definition, realm, name, now),
    apis: definition.apis.map((api) => api.name),
    scopes: definition.scopes.map((scope) => scope.name),
    reach: 'anyone',
    serviceUser: definition.registration.roles[0] === undefined ? null : { name: `${name} service`, role: definition.registration.roles[0] },
    approval: { state: 'approved', answers: {}, says: '', changedAt: now },
  };
}

export function addSecret(
  definition: ProviderDefinition,
  client: RegisteredClient,
  { now, label = '', days = null }: { now: number; label?: string; days?: number | null },
): KeptSecret {
  const most = definition.registration.secret_days_most;
  const lasts = most === undefined ? days : Math.min(days ?? most, most);
  const secret = {
    id: String(client.secrets.length + 1),
    label,
    value: opaque(`${definition.name.slice(0, 2)}s.`),
    createdAt: now,
    endsAt: lasts === null ? null : now + lasts * 86_400_000,
  };
  client.secrets.push(secret);
  return secret;
}
