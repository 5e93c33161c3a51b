import { Fault } from '../fault.ts';
import { own } from '../json.ts';
import { WIRE_GRANT_TYPES } from '../oauth/grant-kinds.ts';
import { CLIENT_AUTHENTICATION_METHODS } from '../oauth/methods.ts';
import { addressOrNothing, type Draft, emptyDraft, type Named, put, readyLine } from './draft.ts';
import { requirementsOf } from './requirements.ts';
import { ScopeName } from './web-address.ts';

/** The two well-known addresses of an issuer: RFC 8414 §3.1 (inserted before the path), OpenID Connect Discovery §4 (appended). */
export function metadataAddresses(issuer: string): string[] {
  const url = new URL(issuer);
  const path = url.pathname.replace(/\/$/, '');
  return [`${url.origin}${path}/.well-known/openid-configuration`, `${url.origin}/.well-known/oauth-authorization-server${path}`];
}

/** The issuer that a metadata address stands for, or null where the address is no well-known one. */
export function issuerOf(address: string): string | null {
  const url = new URL(address);
  const before = /^(.*)\/\.well-known\/openid-configuration\/?$/.exec(url.pathname);
  if (before) return `${url.origin}${before[1]}`;
  const after = /^\/\.well-known\/(?:oauth-authorization-server|openid-configuration)(\/.*)?$/.exec(url.pathname);
  return after ? `${url.origin}${(after[1] ?? '').replace(/\/$/, '')}` : null;
}

const texts = (value: unknown, most: number): string[] =>
  Array.isArray(value) ? value.filter((one): one is string => typeof one === 'string').slice(0, most) : [];

const SCOPE_WORDS: Record<string, { says: string; power: string }> = {
  openid: { says: 'Sign in (OpenID Connect)', power: 'identity' },
  profile: { says: 'See who you are', power: 'identity' },
  email: { says: 'See your mail address', power: 'identity' },
  offline_access: { says: 'Keep access while you are away (brings a refresh token)', power: 'identity' },
};

/** The client types that a server's grant types allow; the usual one first. Left out: authorization_code, as RFC 8414 §2 says. */
function clientTypesFor(grants: readonly string[], methods: readonly string[]): string[] {
  const code = grants.length === 0 || grants.includes('authorization_code');
  const own = grants.includes('client_credentials') || grants.includes(WIRE_GRANT_TYPES.jwt_bearer);
  const device = grants.includes(WIRE_GRANT_TYPES.device_code);
  return [
    ...(code || device || !own ? ['web', 'desktop'] : []),
    ...((code || device) && methods.includes('none') ? ['public'] : []),
    ...(own ? ['service_account'] : []),
  ];
}

/** A scope of which only the name is known. Its power is guessed from the name. */
export const guessedScope = (name: string, says?: string): Record<string, unknown> => ({
  name,
  says: (says ?? own(SCOPE_WORDS, name)?.says ?? name).slice(0, 200),
  ...(name === 'offline_access' ? { preset: true } : {}), // without it no refresh token comes (OpenID Connect Core §11)
  power:
    own(SCOPE_WORDS, name)?.power ?? (/admin|manage|full/i.test(name) ? 'admin' : /write|edit|create|delete|update|send|post/i.test(name) ? 'write' : 'read'),
});

/**
 * A draft from authorization server metadata (RFC 8414 §2) or an OpenID provider's configuration.
 * @param expected the issuer that was requested; it must be the one inside, character by character (§3.3).
 * @throws {Fault} METADATA_WRONG
 */
export function fromMetadata(metadata: unknown, expected: string | null, source: string, named: Named): Draft {
  if (typeof metadata !== 'object' || metadata === null || Array.isArray(metadata))
    throw new Fault('METADATA_WRONG', { detail: `${source} is not a JSON object.` });
  const given = metadata as Record<string, unknown>;
  if (typeof given.issuer !== 'string') throw new Fault('METADATA_WRONG', { detail: `${source} names no issuer.` });
  if (expected !== null && given.issuer.replace(/\/$/, '') !== expected.replace(/\/$/, ''))
    throw new Fault('METADATA_WRONG', {
      detail: `It names the issuer ${given.issuer.slice(0, 200)}, and was requested as ${expected}.`,
      remedy: 'Request the issuer that it names, if that is the provider; otherwise someone answers in its place (RFC 8414 §3.3).',
    });
  const draft = emptyDraft(named.name, named.title, named.typed);
  for (const member of [
    'issuer',
    'authorization_endpoint',
    'token_endpoint',
    'userinfo_endpoint',
    'revocation_endpoint',
    'introspection_endpoint',
    'device_authorization_endpoint',
    'pushed_authorization_request_endpoint',
    'jwks_uri',
    'service_documentation',
  ]) {
    const value = addressOrNothing(given[member]);
    put(draft, `server.${member}`, value, source);
    if (given[member] !== undefined && value === undefined) draft.warnings.push(`${member} is not an https address and was left out.`);
  }
  const list = (member: string, most: number) => {
    const values = texts(given[member], most);
    put(draft, `server.${member}`, values, source);
    return values;
  };
  list('response_types_supported', 20);
  const grants = list('grant_types_supported', 20);
  if (grants.length === 0)
    put(draft, 'server.grant_types_supported', ['authorization_code', 'refresh_token'], 'assumed, as RFC 8414 says where it is left out');
  const methods = texts(given.token_endpoint_auth_methods_supported, 20);
  const ours = methods.filter((method) => (CLIENT_AUTHENTICATION_METHODS as readonly string[]).includes(method));
  put(draft, 'server.token_endpoint_auth_methods_supported', ours, source);
  const foreign = methods.filter((method) => !ours.includes(method));
  if (foreign.length > 0) draft.warnings.push(`Ways to authenticate that are not spoken here: ${foreign.join(', ').slice(0, 200)}.`);
  if (methods.length > 0 && ours.length === 0) draft.warnings.push('None of its ways to authenticate a client is spoken here.');
  const challenges = list('code_challenge_methods_supported', 10);
  if (challenges.length === 0)
    put(draft, 'server.code_challenge_methods_supported', ['S256'], 'assumed: PKCE is sent; a provider that does not know it ignores it (RFC 7636 §5)');
  for (const member of [
    'authorization_response_iss_parameter_supported',
    'require_pushed_authorization_requests',
    'require_signed_request_object',
    'tls_client_certificate_bound_access_tokens',
  ])
    if (given[member] === true) put(draft, `server.${member}`, true, source);
  for (const member of ['token_endpoint_auth_signing_alg_values_supported', 'prompt_values_supported', 'dpop_signing_alg_values_supported']) list(member, 20);
  put(draft, 'registration.client_types', clientTypesFor(grants, methods), 'follows from its grant types');
  draft.warnings.push(...requirementsOf({ server: { ...(draft.document.server as object) } as never }, methods).map((one) => one.says));
  const scopes = texts(given.scopes_supported, 500).filter((name) => ScopeName.safeParse(name).success);
  put(
    draft,
    'scopes',
    scopes.map((name) => guessedScope(name)),
    `${source}; what each may do is guessed from its name`,
  );
  if (addressOrNothing(given.userinfo_endpoint))
    put(draft, 'identity', { id: '/sub', label: scopes.includes('email') ? '/email' : '/sub' }, 'OpenID Connect Core §5.1');
  return readyLine(draft);
}
