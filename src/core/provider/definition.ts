import { z } from 'zod';
import { parseUrl } from '../url.ts';
import { isHostSafe, placeholdersIn, withSamples } from './placeholders.ts';

/**
 * A provider definition: everything this service knows of a provider, as data. Members of `server` carry the names of
 * RFC 8414 (authorization server metadata). Unknown members are refused: a misspelt word must not pass in silence.
 */
const LOOPBACK = /^(127(\.\d{1,3}){3}|localhost|[a-z0-9.-]+\.localhost|\[::1\])$/;

/** True for hosts that can only be this machine (RFC 6761 §6.3). Plain http is accepted there alone. */
export const isLoopbackHost = (hostname: string): boolean => LOOPBACK.test(hostname);

const webAddress = (what: string) =>
  z.string().refine(
    (text) => {
      const url = parseUrl(withSamples(text));
      return url !== null && !url.username && !url.hash && (url.protocol === 'https:' || (url.protocol === 'http:' && isLoopbackHost(url.hostname)));
    },
    { error: `${what} must be an absolute https address without a fragment (http on loopback only).` },
  );

const jsonPointer = z.string().regex(/^(\/[^/]*)+$/, { error: 'Use a JSON pointer (RFC 6901), such as /sub.' });

/** RFC 6749 §3.3: scope-token = 1*( %x21 / %x23-5B / %x5D-7E ). */
export const ScopeName = z
  .string()
  .regex(/^[\x21\x23-\x5b\x5d-\x7e]+$/, { error: 'A scope is one word without spaces, quotes or backslashes (RFC 6749 §3.3).' });

const Server = z.strictObject({
  issuer: webAddress('issuer'),
  authorization_endpoint: webAddress('authorization_endpoint'),
  token_endpoint: webAddress('token_endpoint'),
  userinfo_endpoint: webAddress('userinfo_endpoint').optional(),
  response_types_supported: z.array(z.string()).default(['code']),
  grant_types_supported: z.array(z.string()).default(['authorization_code', 'refresh_token']),
  token_endpoint_auth_methods_supported: z
    .array(z.enum(['client_secret_basic', 'client_secret_post']))
    .min(1)
    .default(['client_secret_basic']),
  code_challenge_methods_supported: z.array(z.string()).default(['S256']),
  authorization_response_iss_parameter_supported: z.boolean().default(false),
  service_documentation: webAddress('service_documentation').optional(),
});

const Scope = z.strictObject({
  name: ScopeName,
  says: z.string().min(1).max(200),
  power: z.enum(['read', 'write', 'admin', 'identity']).default('read'),
  preset: z.boolean().default(false).describe('Ticked beforehand when a connection is opened'),
});

const Dialect = z.strictObject({
  rotation: z.enum(['never', 'each_use', 'unknown']).default('unknown').describe('Whether a renewal brings a new refresh token that replaces the old one'),
  reuse: z.enum(['kills_grant', 'refused', 'grace']).default('kills_grant').describe('What happens to a refresh token that is used a second time'),
  reuse_grace_seconds: z.number().int().min(1).max(3600).optional().describe('With `reuse: grace`: for how long the old one is still taken'),
  assumed_life_seconds: z.number().int().min(10).max(86_400).default(1800).describe('The life of an access token where the answer names none'),
  offline_parameter: z
    .strictObject({ name: z.string().regex(/^[\x21-\x7e]{1,40}$/), value: z.string().regex(/^[\x21-\x7e]{1,80}$/) })
    .optional()
    .describe('Sent along to the authorization endpoint; without it no refresh token comes'),
  idle_life_seconds: z.number().int().min(60).max(315_360_000).optional().describe('A refresh token that is not used for so long lapses; left out: not known'),
  absolute_life_seconds: z
    .number()
    .int()
    .min(60)
    .max(315_360_000)
    .optional()
    .describe('So long after the consent the grant ends, however often it was renewed; left out: not known'),
  pkce: z.enum(['S256', 'none']).default('S256'),
});

const Placeholder = z.strictObject({
  name: z.string().regex(/^[a-z][a-z0-9_]{0,30}$/, { error: 'Lower-case letters, digits and underscores, a letter first.' }),
  title: z.string().min(1).max(60),
  says: z.string().max(300).default(''),
  choices: z
    .array(
      z.strictObject({ value: z.string().regex(/^[a-z0-9-]{1,40}$/, { error: 'Lower-case letters, digits and hyphens.' }), title: z.string().min(1).max(60) }),
    )
    .min(1)
    .max(50),
});

const Probe = z.strictObject({
  ability: z.enum(['reading', 'writing']).default('reading'),
  method: z.literal('GET').default('GET'),
  path: z.string().regex(/^\/[^\s]*$/, { error: 'The path starts with / and holds no spaces.' }),
  needs: z.array(ScopeName).default([]).describe('One of these scopes is needed'),
});

const Api = z.strictObject({
  name: z.string().regex(/^[a-z][a-z0-9-]{0,40}$/),
  title: z.string().min(1).max(80),
  base_url: webAddress('base_url'),
  probe: Probe.optional(),
});

const Identity = z.strictObject({
  endpoint: webAddress('identity.endpoint').optional().describe('Left out: the userinfo_endpoint of the server'),
  id: jsonPointer,
  label: jsonPointer,
});

const Registration = z.strictObject({
  page: webAddress('registration.page').optional(),
  note: z.string().max(400).optional(),
});

export const ProviderDefinition = z
  .strictObject({
    name: z.string().regex(/^[a-z][a-z0-9-]{0,40}$/, { error: 'A name is lower-case letters, digits and hyphens, and starts with a letter.' }),
    title: z.string().min(1).max(80),
    about: z.string().max(400).default(''),
    placeholders: z.array(Placeholder).default([]).describe('Asked for each client; they fill the {names} in addresses'),
    server: Server,
    registration: Registration.default({}),
    scopes: z.array(Scope).default([]),
    dialect: Dialect.default({ rotation: 'unknown', reuse: 'kills_grant', assumed_life_seconds: 1800, pkce: 'S256' }),
    apis: z.array(Api).min(1),
    identity: Identity.optional(),
  })
  .superRefine((definition, context) => {
    const issue = (path: (string | number)[], message: string) => context.addIssue({ code: 'custom', path, message });
    if (definition.dialect.reuse === 'grace' && definition.dialect.reuse_grace_seconds === undefined)
      issue(['dialect', 'reuse_grace_seconds'], '`reuse: grace` needs the seconds of the grace.');
    if (definition.identity && !definition.identity.endpoint && !definition.server.userinfo_endpoint)
      issue(['identity', 'endpoint'], 'Name an endpoint here, or a userinfo_endpoint in `server`.');
    const named = new Set(definition.placeholders.map((one) => one.name));
    const addresses = [
      ...Object.entries(definition.server).map(([name, value]) => ({ path: ['server', name], value })),
      ...definition.apis.map((api, at) => ({ path: ['apis', at, 'base_url'], value: api.base_url })),
      { path: ['identity', 'endpoint'], value: definition.identity?.endpoint },
      { path: ['registration', 'page'], value: definition.registration.page },
    ];
    for (const { path, value } of addresses) {
      if (typeof value !== 'string') continue;
      for (const name of placeholdersIn(value)) if (!named.has(name)) issue(path, `{${name}} is not among the placeholders.`);
      if (!isHostSafe(value)) issue(path, 'In a host, a placeholder is one whole label left of a fixed suffix, such as {region}.provider.example.');
    }
    const known = new Set(definition.scopes.map((scope) => scope.name));
    if (known.size !== definition.scopes.length) issue(['scopes'], 'A scope is listed twice.');
    definition.apis.forEach((api, at) => {
      for (const need of api.probe?.needs ?? []) if (!known.has(need)) issue(['apis', at, 'probe', 'needs'], `The scope ${need} is not in the catalogue.`);
    });
  });

export type ProviderDefinition = z.output<typeof ProviderDefinition>;
export type Dialect = ProviderDefinition['dialect'];
export type Probe = z.output<typeof Probe>;

/** True where a refresh token may be spent by its use, so that the answer to a renewal must not be lost. */
export const isSpendable = (dialect: Dialect): boolean => dialect.rotation !== 'never';

/** Why this version will not run a definition, or null. */
export function whyUnsupported(definition: ProviderDefinition): string | null {
  const { dialect } = definition;
  if (dialect.pkce === 'S256' && !definition.server.code_challenge_methods_supported.includes('S256'))
    return 'It names no S256 in code_challenge_methods_supported, yet its dialect does not say `pkce: none`.';
  return null;
}
