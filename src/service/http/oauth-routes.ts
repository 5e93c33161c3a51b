import express, { type Express, type Request, type Response } from 'express';
import { ASSERTION_ALGORITHMS } from '../../core/callers/assertion.ts';
import { SIGN_IN_COOKIE_SECONDS, signInCookieName } from '../tool-sign-ins/index.ts';
import type { AppParts } from './app-parts.ts';

const FORM_LIMIT = '16kb';

/** Our own authorization server, all but the token endpoint: its metadata, sign-in for tools, who consented, and the public keys of clients. */
export function oauthRoutes(
  server: Express,
  parts: Pick<AppParts, 'publicUrl' | 'takesCertificates' | 'signInRequests' | 'sessions' | 'userInfo' | 'publicKeys'>,
): void {
  const { publicUrl } = parts;
  const methods = [
    ...['client_secret_basic', 'client_secret_post', 'private_key_jwt', 'none'],
    ...(parts.takesCertificates ? ['tls_client_auth', 'self_signed_tls_client_auth'] : []),
  ];
  server.get('/.well-known/oauth-authorization-server', (_request, response) => {
    response.setHeader('access-control-allow-origin', '*'); // public, also for tools that run in a browser
    // RFC 8414
    response.json({
      issuer: publicUrl,
      token_endpoint: `${publicUrl}/oauth/token`,
      authorization_endpoint: `${publicUrl}/oauth/authorize`,
      revocation_endpoint: `${publicUrl}/oauth/revoke`,
      userinfo_endpoint: `${publicUrl}/oauth/userinfo`,
      grant_types_supported: ['client_credentials', 'authorization_code', 'refresh_token'],
      token_endpoint_auth_methods_supported: methods,
      token_endpoint_auth_signing_alg_values_supported: [...ASSERTION_ALGORITHMS],
      revocation_endpoint_auth_methods_supported: methods,
      revocation_endpoint_auth_signing_alg_values_supported: [...ASSERTION_ALGORITHMS],
      // A connection is named by its own scope, `connection:NAME`; what it may do at its provider was decided at its consent.
      scopes_supported: ['connection:NAME'],
      service_documentation: `${publicUrl}/#/help`,
      response_types_supported: ['code'],
      response_modes_supported: ['query'],
      code_challenge_methods_supported: ['S256'],
      authorization_response_iss_parameter_supported: true,
    });
  });

  // Sign-in for tools (RFC 6749 §4.1.1): a tool sends the browser here; whoever is asked answers in the console.
  const authorize = async (query: URLSearchParams, request: Request, response: Response): Promise<void> => {
    const { location, request: asked } = await parts.signInRequests.begin(query, request.ip ?? '');
    if (asked) parts.sessions.giveConsentCookie(response, signInCookieName(asked.id), asked.cookie, SIGN_IN_COOKIE_SECONDS);
    response.setHeader('cache-control', 'no-store');
    response.redirect(303, location);
  };
  server.get('/oauth/authorize', (request, response) => authorize(new URL(request.originalUrl, publicUrl).searchParams, request, response));
  // The same as a form (RFC 6749 §3.1); parameters in the address as well would be repeated ones.
  server.post('/oauth/authorize', express.text({ type: 'application/x-www-form-urlencoded', limit: FORM_LIMIT }), (request, response) => {
    const given = new URLSearchParams(typeof request.body === 'string' ? request.body : '');
    for (const [name, value] of new URL(request.originalUrl, publicUrl).searchParams) given.append(name, value);
    return authorize(given, request, response);
  });

  // For tools that insist on a user-info address (OpenID Connect Core §5.3): who consented to the connection that the tool's token is of.
  server.all('/oauth/userinfo', async (request, response) => {
    const token = /^Bearer (\S{1,20000})$/i.exec(request.headers.authorization ?? '')?.[1];
    const claims = token === undefined ? null : await parts.userInfo(token);
    response.setHeader('cache-control', 'no-store');
    if (claims) return void response.json(claims);
    response.setHeader('www-authenticate', 'Bearer error="invalid_token"');
    response.status(401).json({ error: 'invalid_token', error_description: 'Send the access token that a tool got here by signing in, as Bearer.' });
  });

  server.get('/oauth/keys/:provider/:client', async (request, response) => {
    const keys = await parts.publicKeys(request.params.provider, request.params.client);
    response.set('cache-control', 'public, max-age=300').type('application/jwk-set+json').send(JSON.stringify(keys));
  });
}
