import { z } from 'zod';
import { CLIENT_AUTHENTICATION_METHODS } from '../oauth/methods.ts';
import { addressesOf } from './addresses.ts';
import { Api } from './api.ts';
import { Dialect, PLAIN_DIALECT } from './dialect.ts';
import { ENVIRONMENTS, type Environment, REACHES } from './kinds.ts';
import { patternProblem } from './pattern.ts';
import { isHostSafe, placeholdersIn } from './placeholder-text.ts';
import { ANSWERS, PLAIN_REGISTRATION, Registration } from './registration.ts';
import { hasAdjacentNames } from './template.ts';
import { jsonPointer, ScopeName, webAddress } from './web-address.ts';

/**
 * A provider definition: everything this service knows of a provider, as data. Members of `server` carry the names of
 * RFC 8414 (authorization server metadata). Unknown members are rejected: a misspelt word must not pass in silence.
 */
export const POWERS = ['identity', 'read', 'write', 'admin'] as const;
export type Power = (typeof POWERS)[number];
const text = (most: number) => z.string().max(most);

const ServerMembers = {
  issuer: webAddress('issuer').optional(),
  authorization_endpoint: webAddress('authorization_endpoint').optional(),
  token_endpoint: webAddress('token_endpoint'),
  userinfo_endpoint: webAddress('userinfo_endpoint').optional(),
  revocation_endpoint: webAddress('revocation_endpoint').optional(),
  introspection_endpoint: webAddress('introspection_endpoint').optional(),
  device_authorization_endpoint: webAddress('device_authorization_endpoint').optional(),
  jwks_uri: webAddress('jwks_uri').optional(),
};
const Server = z.strictObject({
  ...ServerMembers,
  response_types_supported: z.array(z.string().max(60)).max(20).default(['code']),
  grant_types_supported: z.array(z.string().max(100)).max(20).default(['authorization_code', 'refresh_token']),
  token_endpoint_auth_methods_supported: z.array(z.enum(CLIENT_AUTHENTICATION_METHODS)).min(1).default(['client_secret_basic']),
  code_challenge_methods_supported: z.array(z.string().max(20)).max(10).default(['S256']),
  authorization_response_iss_parameter_supported: z.boolean().default(false),
  token_endpoint_auth_signing_alg_values_supported: z.array(z.string().max(20)).max(30).optional(),
  prompt_values_supported: z.array(z.string().max(40)).max(20).optional(),
  pushed_authorization_request_endpoint: webAddress('pushed_authorization_request_endpoint')
    .optional()
    .describe('RFC 9126 \u00a75; not supported by this version'),
  require_pushed_authorization_requests: z.boolean().optional().describe('RFC 9126 \u00a75; not supported by this version'),
  require_signed_request_object: z.boolean().optional().describe('RFC 9101 \u00a710.5; not supported by this version'),
  tls_client_certificate_bound_access_tokens: z.boolean().optional().describe('RFC 8705 \u00a73.3; not supported by this version'),
  dpop_signing_alg_values_supported: z.array(z.string().max(20)).max(30).optional().describe('RFC 9449 \u00a75.1; not supported by this version'),
  service_documentation: webAddress('service_documentation').optional(),
});

const Scope = z.strictObject({
  name: ScopeName,
  says: text(200).min(1),
  power: z.enum(POWERS).default('read'),
  acts_for: z.enum(['person', 'itself', 'either']).default('person').describe('Whether the client then acts for a signed-in person or for itself'),
  organization: z.boolean().default(false).describe('The whole organization needs admin consent'),
  preset: z.boolean().default(false).describe('Ticked beforehand when a connection is opened'),
});
export type Scope = z.output<typeof Scope>;

const placeholderName = z.string().regex(/^[a-z][a-z0-9_]{0,30}$/, { error: 'Lower-case letters, digits and underscores, a letter first.' });
const Placeholder = z.strictObject({
  name: placeholderName,
  title: text(60).min(1),
  says: text(300).default(''),
  level: z.enum(['client', 'connection']).default('client').describe('Where it is requested'),
  choices: z
    .array(z.strictObject({ value: z.string().regex(/^[a-z0-9-]{1,40}$/, { error: 'Lower-case letters, digits and hyphens.' }), title: text(60).min(1) }))
    .max(50)
    .default([]),
  pattern: text(200).optional().describe('A regular expression for the whole value, where there are no choices'),
  example: text(100).optional(),
  pages: z
    .array(webAddress('pages'))
    .max(5)
    .default([])
    .describe('Pages of the provider whose address holds the value, such as https://desk.provider.example/{tenant}'),
});

const Identity = z.strictObject({
  endpoint: webAddress('identity.endpoint').optional().describe('Left out: the userinfo_endpoint of the server'),
  id: jsonPointer,
  label: jsonPointer,
  opened: jsonPointer.optional().describe('Where the organization, site or sub-account stands that was opened'),
  needs: z.array(ScopeName).max(10).default([]).describe('Scopes that only this needs: they are requested automatically'),
});

const ReachFacts = z.strictObject({
  reach: z.enum(REACHES),
  says: text(300).min(1).describe('What it costs'),
  refresh_token_life_seconds: z.number().int().min(60).max(315_360_000).optional().describe('Refresh tokens live only so long'),
});

const Shape = z.strictObject({
  of: z
    .string()
    .regex(/^(client_id|client_secret|secret_id|audience|[a-z][a-z0-9_]{0,30})$/)
    .describe('client_id, client_secret, secret_id, audience, or a placeholder'),
  pattern: text(200).min(1).describe('A regular expression for the whole value'),
  says: text(120).min(1).describe('What it looks like, such as \u201cthree letters and 12 digits\u201d'),
});

const Variant = z.strictObject({
  name: z.string().regex(/^[a-z][a-z0-9-]{0,30}$/),
  title: text(80).min(1),
  says: text(300).default(''),
  environments: z.array(z.enum(ENVIRONMENTS)).default([]).describe('Clients of these environments use it automatically'),
  server: z.strictObject({ ...ServerMembers, token_endpoint: webAddress('token_endpoint').optional() }).default({}),
  apis: z.record(z.string(), z.strictObject({ base_url: webAddress('base_url') })).default({}),
  identity_endpoint: webAddress('identity_endpoint').optional(),
  registration_page: webAddress('registration_page').optional(),
  client_page: webAddress('client_page').optional(),
  scopes: z.array(ScopeName).optional().describe('Only these of the catalogue exist in this environment'),
});

const Step = z.strictObject({
  title: text(120).min(1),
  side: z.enum(['provider', 'api']).default('provider').describe('In the provider\u2019s console, or on the API\u2019s side, such as a service user'),
  page: webAddress('guide.page').optional(),
  where: text(300).default('').describe('Where you are then, in the provider\u2019s words'),
  does: text(600).min(1).describe('The exact choice'),
  do_not_confuse: text(300).optional().describe('What is easily taken for it'),
  leave_empty: text(300).optional(),
  instead: text(300).optional().describe('What you may see instead'),
  brings: z
    .array(z.enum(['client_id', 'client_secret']))
    .default([])
    .describe('What the step brings, to be entered here'),
  purpose: text(60).optional().describe('Only for this purpose'),
  last_verified: z.iso.date().optional(),
});

export type GuideStep = z.output<typeof Step>;
/** What a step may hold in braces beside placeholders. */
export const GUIDE_NAMES = [
  'redirect_uri',
  'redirect_host',
  'origin',
  'keys_address',
  'scopes',
  'client_id',
  'client_title',
  'listed_accounts',
  'sha1',
  ...ANSWERS,
] as const;

const WORDS = ['client', 'client_id', 'client_secret', 'redirect_uri', 'scope', 'account', 'tenant'] as const;

export const ProviderDefinition = z
  .strictObject({
    name: z.string().regex(/^[a-z][a-z0-9-]{0,40}$/, { error: 'A name is lower-case letters, digits and hyphens, and starts with a letter.' }),
    title: text(80).min(1),
    about: text(400).default(''),
    placeholders: z.array(Placeholder).max(20).default([]).describe('Asked for once; they fill the {names} in addresses and parameters'),
    server: Server,
    variants: z.array(Variant).max(10).default([]).describe('Other hosts or fewer scopes, such as a sandbox'),
    registration: Registration.default(PLAIN_REGISTRATION),
    reach: z.array(ReachFacts).max(3).default([]).describe('What it costs when a client is open to few'),
    scopes: z.array(Scope).max(500).default([]),
    dialect: Dialect.default(PLAIN_DIALECT),
    apis: z.array(Api).min(1).max(50),
    api_hosts: z
      .array(z.string().regex(/^(\*\.)?[a-z0-9-]+(\.[a-z0-9-]+)+$/, { error: 'A host name, or *. and a host name.' }))
      .max(10)
      .default([])
      .describe('Hosts that a base URL from a token answer may have'),
    identity: Identity.optional(),
    shapes: z.array(Shape).max(20).default([]).describe('What an id, a secret, a tenant look like, so that a mis-paste is named at once'),
    words: z.partialRecord(z.enum(WORDS), text(60).min(1)).default({}).describe('The provider\u2019s own words beside ours'),
    guide: z.array(Step).max(40).default([]).describe('The steps of registering a client'),
  })
  .superRefine((definition, context) => {
    const issue = (path: (string | number)[], message: string) => context.addIssue({ code: 'custom', path, message });
    const { dialect, server, scopes, placeholders, apis } = definition;
    if (dialect.reuse === 'grace' && dialect.reuse_grace_seconds === undefined)
      issue(['dialect', 'reuse_grace_seconds'], '`reuse: grace` needs the seconds of the grace.');
    if (dialect.token_answer.api_base_url && definition.api_hosts.length === 0)
      issue(['api_hosts'], '`token_answer.api_base_url` needs the hosts that it may name: a token is sent nowhere else.');
    if (definition.identity && !definition.identity.endpoint && !server.userinfo_endpoint && !dialect.token_answer.account_id)
      issue(['identity', 'endpoint'], 'Name an endpoint here, or a userinfo_endpoint in `server`.');
    const { registration } = definition;
    const printed = registration.client_types.includes('printed_code');
    if (new Set(registration.parts.map((one) => one.part)).size !== registration.parts.length) issue(['registration', 'parts'], 'A part is listed twice.');
    for (const name of placeholdersIn(registration.client_page ?? ''))
      if (name !== 'client_id' && !placeholders.some((one) => one.name === name))
        issue(['registration', 'client_page'], `{${name}} is neither a placeholder nor client_id.`);
    if (server.grant_types_supported.includes('authorization_code') && !server.authorization_endpoint && !printed)
      issue(['server', 'authorization_endpoint'], 'The authorization code grant type needs it; else leave authorization_code out of grant_types_supported.');
    if (server.authorization_response_iss_parameter_supported && !server.issuer) issue(['server', 'issuer'], 'The `iss` parameter is compared with it.');
    const named = new Set(placeholders.map((one) => one.name));
    placeholders.forEach((one, at) => {
      if (one.choices.length === 0 && one.pattern === undefined) issue(['placeholders', at], 'Give its choices, or a pattern for its value.');
      if (one.pages.some((page) => !placeholdersIn(page).includes(one.name))) issue(['placeholders', at, 'pages'], `Each holds {${one.name}}.`);
      if (one.pages.some(hasAdjacentNames)) issue(['placeholders', at, 'pages'], 'Two placeholders stand side by side: put something between them.');
      const wrong = one.pattern === undefined ? null : patternProblem(one.pattern);
      if (wrong) issue(['placeholders', at, 'pattern'], wrong);
    });
    definition.shapes.forEach((shape, at) => {
      const wrong = patternProblem(shape.pattern);
      if (wrong) issue(['shapes', at, 'pattern'], wrong);
    });
    const variantAddresses = definition.variants.flatMap((variant, at) => [
      ...Object.entries(variant.server).map(([name, value]) => ({ path: ['variants', at, 'server', name], value: String(value) })),
      ...Object.entries(variant.apis).map(([name, api]) => ({ path: ['variants', at, 'apis', name, 'base_url'], value: api.base_url })),
    ]);
    for (const { path, value } of [...addressesOf(definition), ...variantAddresses]) {
      for (const name of placeholdersIn(value)) if (!named.has(name)) issue(path, `{${name}} is not among the placeholders.`);
      if (hasAdjacentNames(value)) issue(path, 'Two placeholders stand side by side: put something between them.');
      if (!isHostSafe(value)) issue(path, 'In a host, a placeholder is one whole label left of a fixed suffix, such as {region}.provider.example.');
    }
    for (const name of placeholdersIn(dialect.resource ?? '')) if (!named.has(name)) issue(['dialect', 'resource'], `{${name}} is not among the placeholders.`);
    for (const field of ['authorization_parameters', 'token_parameters', 'token_headers'] as const)
      for (const [key, value] of Object.entries(dialect[field]))
        for (const name of placeholdersIn(value)) if (!named.has(name)) issue(['dialect', field, key], `{${name}} is not among the placeholders.`);
    definition.guide.forEach((step, at) => {
      for (const name of [step.where, step.does, step.do_not_confuse, step.leave_empty, step.instead, step.page].flatMap((text) => placeholdersIn(text ?? '')))
        if (!named.has(name) && !(GUIDE_NAMES as readonly string[]).includes(name))
          issue(['guide', at], `{${name}} is neither a placeholder nor one of ${GUIDE_NAMES.join(', ')}.`);
    });
    if (new Set(definition.guide.map((step) => step.title)).size !== definition.guide.length) issue(['guide'], 'Two steps have the same title.');
    const known = new Set(scopes.map((scope) => scope.name));
    if (known.size !== scopes.length) issue(['scopes'], 'A scope is listed twice.');
    scopes.forEach((scope, at) => {
      if (dialect.scope_separator !== ' ' && scope.name.includes(dialect.scope_separator))
        issue(['scopes', at, 'name'], 'It holds the delimiter of the scopes.');
    });
    const unlisted = (path: (string | number)[], names: readonly string[]) => {
      for (const name of names) if (known.size > 0 && !known.has(name)) issue(path, `The scope ${name} is not in the catalogue.`);
    };
    unlisted(['identity', 'needs'], definition.identity?.needs ?? []);
    definition.variants.forEach((variant, at) => {
      unlisted(['variants', at, 'scopes'], variant.scopes ?? []);
      for (const name of Object.keys(variant.apis)) if (!apis.some((api) => api.name === name)) issue(['variants', at, 'apis', name], 'There is no such API.');
    });
    if (apis.filter((api) => api.session).length > 1) issue(['apis'], 'Only one of the APIs may have a session step.');
    apis.forEach((api, at) => {
      api.probes.forEach((probe, n) => {
        unlisted(['apis', at, 'probes', n, 'needs'], probe.needs);
      });
      if (api.session?.base_url_at && definition.api_hosts.length === 0)
        issue(['apis', at, 'session', 'base_url_at'], 'It needs `api_hosts`, the hosts that it may name: a token is sent nowhere else.');
      api.operations.forEach((one, n) => {
        if (hasAdjacentNames(one.path)) issue(['apis', at, 'operations', n, 'path'], 'Two names stand side by side: put something between them.');
      });
      if (new Set(api.operations.map((one) => one.id)).size !== api.operations.length) issue(['apis', at, 'operations'], 'An operation id is listed twice.');
    });
  });

export type ProviderDefinition = z.output<typeof ProviderDefinition>;
export type { Dialect } from './dialect.ts';
export { isSpendable } from './dialect.ts';

/** A definition as it was stored. */
export const storedDefinition = (document: unknown): ProviderDefinition => ProviderDefinition.parse(document);

/** The definition as a client of this environment meets it; `name` chooses a variant that no environment chooses. */
export function withVariant(definition: ProviderDefinition, environment: Environment, name: string | null): ProviderDefinition {
  const variant = definition.variants.find((one) => (name === null ? one.environments.includes(environment) : one.name === name));
  if (!variant) return definition;
  const { identity, registration, scopes } = definition;
  return {
    ...definition,
    server: { ...definition.server, ...variant.server } as ProviderDefinition['server'],
    apis: definition.apis.map((api) => ({ ...api, ...variant.apis[api.name] })),
    scopes: variant.scopes ? scopes.filter((scope) => variant.scopes?.includes(scope.name)) : scopes,
    ...(identity && variant.identity_endpoint ? { identity: { ...identity, endpoint: variant.identity_endpoint } } : {}),
    registration: {
      ...registration,
      ...(variant.registration_page ? { page: variant.registration_page } : {}),
      ...(variant.client_page ? { client_page: variant.client_page } : {}),
    },
  };
}

/** Where secrets and tokens go, as origins with their {placeholders}: when these change, an operator must confirm. */
export function trustedOrigins(definition: ProviderDefinition): string[] {
  const addresses = [
    definition.server.token_endpoint,
    definition.server.userinfo_endpoint,
    definition.server.revocation_endpoint,
    definition.dialect.revocation?.address,
    definition.server.device_authorization_endpoint,
    definition.identity?.endpoint,
    ...definition.apis.map((api) => api.base_url),
  ].filter((one): one is string => one !== undefined);
  const origins = addresses.map((address) => /^[a-z]+:\/\/[^/?#]+/.exec(address)?.[0].toLowerCase() ?? address);
  return [...new Set([...origins, ...definition.api_hosts.map((host) => `https://${host}`)])].sort();
}

/** Origins to which secrets and tokens would go and that are not among the confirmed ones; `null`: none were kept, and all are trusted. */
export const unconfirmedOrigins = (definition: ProviderDefinition, confirmed: readonly string[] | null): string[] =>
  confirmed === null ? [] : trustedOrigins(definition).filter((origin) => !confirmed.includes(origin));

/** Why this version will not run a definition, or null. */
export function whyUnsupported(definition: ProviderDefinition): string | null {
  const { dialect, server } = definition;
  if (server.authorization_endpoint && dialect.pkce === 'S256' && !server.code_challenge_methods_supported.includes('S256'))
    return 'It names no S256 in code_challenge_methods_supported, yet its dialect does not say `pkce: none`.';
  return null;
}
