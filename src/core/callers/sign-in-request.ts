import { isRegisteredRedirect } from './tool-redirect.ts';

/** What a tool requests when it signs in, checked. */
export interface SignInWish {
  redirectUri: string;
  /** True where the tool named it; then it must name it again with the code (RFC 6749 §4.1.3). */
  redirectUriGiven: boolean;
  state: string | null;
  challenge: string | null;
  /** The connection it would like, by `resource` or by the scope connection:NAME. */
  wished: string | null;
}
/** `page`: nothing may be sent to the redirect URI, and a person reads it. `redirect`: RFC 6749 §4.1.2.1. */
export type SignInRequestProblem = { to: 'page'; says: string } | { to: 'redirect'; redirectUri: string; state: string | null; error: string; says: string };

const MAX_STATE = 2000;
const CHALLENGE = /^[A-Za-z0-9_-]{43}$/;

/** Reads an authorization request (RFC 6749 §4.1.1, RFC 7636 §4.3). The redirect URI is settled first: until then nothing is sent back. */
export function readSignInRequest(
  query: URLSearchParams,
  caller: { redirectUris: readonly string[]; keepsNoSecret: boolean },
  publicUrl: string,
): { wish: SignInWish } | { problem: SignInRequestProblem } {
  const page = (says: string) => ({ problem: { to: 'page', says } as const });
  const given = query.getAll('redirect_uri');
  if (given.length > 1) return page('redirect_uri is repeated.');
  const [only, ...more] = caller.redirectUris;
  if (only === undefined) return page('This caller has no redirect URI: enter the one that the tool names, on the caller\u2019s page.');
  if (given[0] === undefined && more.length > 0) return page('The tool names no redirect_uri, and the caller has several.');
  const redirectUri = given[0] ?? only;
  if (!isRegisteredRedirect(caller.redirectUris, redirectUri))
    return page(
      `The redirect_uri that the tool names, ${redirectUri.slice(0, 200)}, is not one of the caller\u2019s. They are compared character by character: scheme, case, port, last slash.`,
    );
  const state = query.get('state');
  const back = (error: string, says: string) => ({ problem: { to: 'redirect', redirectUri, state, error, says } as const });
  for (const name of new Set(query.keys())) if (query.getAll(name).length > 1) return back('invalid_request', `${name.slice(0, 40)} is repeated.`);
  if (state !== null && state.length > MAX_STATE)
    return { problem: { to: 'redirect', redirectUri, state: null, error: 'invalid_request', says: 'The state is too long.' } };
  if (query.has('request') || query.has('request_uri')) return back('request_not_supported', 'Send the parameters themselves.');
  if (query.get('response_type') !== 'code') return back('unsupported_response_type', 'Only response_type=code is answered.');
  if (query.has('response_mode') && query.get('response_mode') !== 'query') return back('invalid_request', 'Only response_mode=query is answered.');
  const challenge = query.get('code_challenge');
  if (challenge === null && query.has('code_challenge_method')) return back('invalid_request', 'code_challenge is missing.');
  if (challenge !== null && query.get('code_challenge_method') !== 'S256') return back('invalid_request', 'Only code_challenge_method=S256 is taken.');
  if (challenge !== null && !CHALLENGE.test(challenge)) return back('invalid_request', 'The code_challenge is not 43 characters of base64url.');
  if (challenge === null && caller.keepsNoSecret) return back('invalid_request', 'This caller keeps no secret: code_challenge with S256 is needed (RFC 7636).');
  const prefix = `${publicUrl}/connections/`;
  const resource = query.get('resource');
  const byScope = (query.get('scope') ?? '').split(' ').find((one) => one.startsWith('connection:'));
  const name = resource?.startsWith(prefix) ? resource.slice(prefix.length) : byScope?.slice('connection:'.length);
  return {
    wish: {
      redirectUri,
      redirectUriGiven: given[0] !== undefined,
      state,
      challenge,
      wished: name !== undefined && /^[a-z0-9][a-z0-9._-]{0,62}$/.test(name) ? name : null,
    },
  };
}

/** The tool's redirect URI with an answer in its query; `iss` says who answers (RFC 9207). */
export function signInLocation(redirectUri: string, publicUrl: string, answer: Record<string, string | null>): string {
  const query = new URLSearchParams();
  for (const [name, value] of Object.entries({ ...answer, iss: publicUrl })) if (value !== null) query.set(name, value);
  return `${redirectUri}${redirectUri.includes('?') ? '&' : '?'}${query}`;
}
