import { parseUrl } from '../url.ts';
import { type Draft, emptyDraft, type Named, put, readyLine } from './draft.ts';
import { guessedScope } from './from-metadata.ts';
import { placeholdersIn, withSamples } from './placeholder-text.ts';
import { tidyAddress, tidyScopes } from './tidy.ts';

/** The short form: four fields, as they were typed. An empty authorization URL means that nobody signs in. */
export interface ShortForm {
  authorization_url: string;
  token_url: string;
  api_call: string;
  scopes: string;
  /** The rest is folded away: what most providers do not need. */
  method?: string | undefined;
  scope_separator?: string | undefined;
  authorization_parameters?: Record<string, string>;
  token_parameters?: Record<string, string>;
}

/** Parameters that a person adds to every authorization or token request, whatever the draft is made from. */
export function putParameters(draft: Draft, given: Pick<ShortForm, 'authorization_parameters' | 'token_parameters'>): void {
  for (const field of ['authorization_parameters', 'token_parameters'] as const)
    if (Object.keys(given[field] ?? {}).length > 0) put(draft, `dialect.${field}`, given[field], 'you');
}

/** {names} in what was typed become placeholders, each requested once at the client. */
function putPlaceholders(draft: Draft): void {
  const names = [...new Set(placeholdersIn(JSON.stringify(draft.document)))];
  put(
    draft,
    'placeholders',
    names.map((name) => ({ name, title: name.replaceAll('_', ' '), pattern: '[A-Za-z0-9._~-]{1,100}' })),
    'you: the names in braces',
  );
}

/** A draft from the short form: what a person knows of a provider that nobody prepared. */
export function fromShortForm(form: ShortForm, named: Named): Draft {
  const draft = emptyDraft(named.name, named.title, named.typed);
  const address = (path: string, label: string, typed: string): string => {
    const { value, changed } = tidyAddress(typed);
    draft.tidied.push(...changed.map((said) => `${label}: ${said}`));
    if (value) put(draft, path, value, 'you');
    return value;
  };
  const authorization = address('server.authorization_endpoint', 'Authorization URL', form.authorization_url);
  address('server.token_endpoint', 'Token URL', form.token_url);
  put(
    draft,
    'server.grant_types_supported',
    authorization ? ['authorization_code', 'refresh_token'] : ['client_credentials'],
    authorization ? 'an authorization URL is given' : 'no authorization URL: the client gets a token of its own',
  );
  if (authorization)
    put(draft, 'server.code_challenge_methods_supported', ['S256'], 'assumed: PKCE is sent; a provider that does not know it ignores it (RFC 7636 §5)');
  put(draft, 'registration.client_types', [authorization ? 'web' : 'service_account'], 'follows from the authorization URL');
  const call = tidyAddress(form.api_call.replace(/^\s*(GET|HEAD)\s+/i, ''));
  draft.tidied.push(...call.changed.map((said) => `API call: ${said}`));
  // Taken apart as text: a placeholder in the host is no URL yet.
  const [, origin, pathname = '/', search = ''] = /^([a-z]+:\/\/[^/?#]+)(\/[^?#]*)?(\?[^#]*)?/.exec(call.value) ?? [];
  if (origin && parseUrl(withSamples(call.value))) {
    const cut = pathname.lastIndexOf('/');
    const base = `${origin}${pathname.slice(0, cut)}`;
    put(
      draft,
      'apis',
      [{ name: 'api', title: `API of ${named.title}`.slice(0, 80), base_url: base, probes: [{ path: `${pathname.slice(cut)}${search}` }] }],
      'you: the call that verifies it',
    );
  }
  const scopes = tidyScopes(form.scopes);
  draft.tidied.push(...scopes.changed.map((said) => `Scopes: ${said}`));
  put(
    draft,
    'scopes',
    scopes.value.map((name) => ({ ...guessedScope(name), preset: true })),
    'you; what each may do is guessed from its name',
  );
  put(
    draft,
    'server.token_endpoint_auth_methods_supported',
    form.method ? [form.method] : ['client_secret_basic'],
    form.method ? 'you' : 'assumed, as RFC 8414 says where it is not known',
  );
  put(draft, 'dialect.scope_separator', form.scope_separator === ' ' ? undefined : form.scope_separator, 'you');
  putParameters(draft, form);
  putPlaceholders(draft);
  for (const [path, says] of [
    ['dialect.rotation', 'not known: refresh tokens are treated as if each use replaced them'],
    ['dialect.reuse', 'not known: a second use is treated as if it ended the grant'],
  ] as const)
    put(draft, path, path === 'dialect.rotation' ? 'unknown' : 'kills_grant', says);
  return readyLine(draft);
}
