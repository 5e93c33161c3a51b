import express, { type Request, type Response, Router } from 'express';
import { sameButPort } from '../core/oauth/ways.ts';
import type { ProviderDefinition } from '../core/provider/definition.ts';
import { opaque, scopesOf } from './answers.ts';
import { developerConsole } from './console/router.ts';
import { type DeviceRequest, deviceFlow } from './device.ts';
import { habitsOf } from './habits.ts';
import { consentPage, organizationPage, signInPage, stopPage } from './pages.ts';
import type { ServerParts } from './server-parts.ts';
import { publishedKeys } from './signing.ts';
import type { GivenGrant, RegisteredClient } from './state.ts';
import { type IssuedCode, revoke, tokenAnswer, type Waiting } from './tokens.ts';
import { ACCOUNTS, STANDIN_PASSWORD } from './world.ts';

const CODE_LIFE_MS = 60_000;
const REQUEST_LIFE_MS = 600_000;

interface PendingRequest {
  client: RegisteredClient;
  redirectUri: string;
  scopes: string[];
  state: string;
  challenge: string | null;
  nonce: string | null;
  hint: string;
  sub: string | null;
  offline: boolean;
  endsAt: number;
}
const text = (value: unknown): string => (typeof value === 'string' ? value : '');

/** A refresh token comes by the scope of OpenID Connect Core §11, or by a parameter of the provider's own. */
const asksOffline = (definition: ProviderDefinition, query: Record<string, unknown>): boolean => {
  const own = definition.dialect.offline_parameter;
  return own ? query[own.name] === own.value : text(query.scope).split(definition.dialect.scope_separator).includes('offline_access');
};

const form = express.urlencoded({ extended: false, limit: '64kb' });
const formOrJson = [form, express.json({ limit: '64kb' })];
/** The path at which an address of the definition is served; none: nowhere. */
const pathOf = (address: string | undefined): string | null => (address === undefined ? null : new URL(address).pathname);

/** A simulated authorization server, whose habits come from the definition: registration, consent, tokens, userinfo. */
export function authorizationServer(parts: ServerParts): Router {
  const { definition, store } = parts;
  const requests = new Map<string, PendingRequest>();
  const codes = new Map<string, IssuedCode>();
  const devices = new Map<string, DeviceRequest>();
  const waitingFor: Waiting = { codes, used: new Set(), devices };
  const router = Router();
  const html = (response: Response, page: string, status = 200) => void response.status(status).type('html').send(page);

  router.use(developerConsole(parts));
  router.use(deviceFlow(parts, devices, (query) => asksOffline(definition, query)));
  const jwks = pathOf(definition.server.jwks_uri);
  if (jwks) router.get(jwks, (_request, response) => void response.json(publishedKeys(store)));

  // Where whoever may agree for the organization does so.
  const agreementPage = pathOf(definition.dialect.admin_consent?.page);
  if (agreementPage)
    router.all(agreementPage, form, (request, response) => {
      const client = store.state.clients[text(request.query.client_id)];
      if (!client) return html(response, stopPage(definition, 'Unknown client', 'No client is registered under this client_id.'), 400);
      if (request.method === 'POST' && !store.state.adminConsented.includes(client.id)) {
        store.state.adminConsented.push(client.id);
        store.touch();
      }
      const scopes = scopesOf(parts, text(request.query.scopes));
      return html(
        response,
        organizationPage(definition, client, { scopes, agreed: store.state.adminConsented.includes(client.id), action: request.originalUrl }),
      );
    });

  router.get(pathOf(definition.server.authorization_endpoint) ?? '/authorize', (request, response) => {
    const query = request.query as Record<string, unknown>;
    const client = store.state.clients[text(query.client_id)];
    if (client?.realm !== parts.realm) return html(response, stopPage(definition, 'Unknown client', 'No client is registered under this client_id.'), 400);
    const redirectUri = text(query.redirect_uri);
    // RFC 8252 §7.3: a loopback redirect URI may come with another port.
    const anyPort = client.type === 'desktop' && definition.registration.redirect_uri.loopback_port === 'any';
    if (!client.redirectUris.some((one) => one === redirectUri || (anyPort && sameButPort(one, redirectUri))))
      return html(
        response,
        stopPage(definition, 'Redirect URI mismatch', `The redirect_uri of this request is not the one registered for ${client.name}.`),
        400,
      );
    if (client.approval.state !== 'approved')
      return html(response, stopPage(definition, 'Not approved', `${client.name} has not been approved yet, and nobody can consent before.`), 403);
    const back = (parameters: Record<string, string>) =>
      response.redirect(302, callbackUrl(definition, redirectUri, { ...parameters, state: text(query.state) }));
    if (query.response_type !== 'code') return back({ error: 'unsupported_response_type' });
    for (const [name, value] of Object.entries(definition.dialect.authorization_parameters))
      if (query[name] !== value) return back({ error: 'invalid_request', error_description: `The parameter ${name} is missing or wrong.` });
    const scopes = scopesOf(parts, text(query.scope));
    const unknown = scopes.find((scope) => !definition.scopes.some((one) => one.name === scope));
    if (unknown !== undefined) return back({ error: 'invalid_scope', error_description: `The scope ${unknown} does not exist.` });
    const unregistered = scopes.find((scope) => !client.scopes.includes(scope));
    if (unregistered !== undefined) return back({ error: 'invalid_scope', error_description: `The scope ${unregistered} is not registered for this client.` });
    const { resource } = definition.dialect;
    if (resource && query.resource !== undefined && query.resource !== resource)
      return back({ error: 'invalid_target', error_description: 'There is no such resource.' });
    const wide = scopes.filter((scope) => definition.scopes.some((one) => one.name === scope && one.organization));
    if (wide.length > 0 && definition.dialect.admin_consent && !store.state.adminConsented.includes(client.id))
      return back({ error: 'consent_required', error_description: `The organization has not consented to ${wide.join(', ')}.` });
    const challenge = text(query.code_challenge) || null;
    if (definition.dialect.pkce === 'S256' && (!challenge || query.code_challenge_method !== 'S256'))
      return back({ error: 'invalid_request', error_description: 'PKCE with S256 is required.' });
    const id = opaque('rq.');
    requests.set(id, {
      client,
      redirectUri,
      scopes,
      state: text(query.state),
      challenge,
      nonce: text(query.nonce) || null,
      hint: text(query[definition.dialect.login_hint ?? 'login_hint']),
      sub: null,
      offline: asksOffline(definition, query),
      endsAt: parts.now() + REQUEST_LIFE_MS,
    });
    return html(response, signInPage(definition, client, id, { hint: text(query[definition.dialect.login_hint ?? 'login_hint']) }));
  });

  const pending = (request: Request): PendingRequest | null => {
    const found = requests.get(text(request.body?.request));
    return found && found.endsAt > parts.now() ? found : null;
  };
  router.post('/sign-in', form, (request, response) => {
    const waiting = pending(request);
    if (!waiting) return html(response, stopPage(definition, 'Too late', 'This sign-in was started too long ago.'), 400);
    const account = ACCOUNTS.find((one) => one.sub === request.body?.account);
    const id = text(request.body?.request);
    if (!account || request.body?.password !== STANDIN_PASSWORD)
      return html(response, signInPage(definition, waiting.client, id, { problem: 'Account or password is wrong.' }), 401);
    const { client } = waiting;
    if (client.reach === 'listed' && !client.listed.includes(account.email))
      return html(
        response,
        stopPage(definition, 'Account not listed', `${client.name} is not published, and ${account.email} is not among its listed accounts.`),
        403,
      );
    const { kindRefused } = habitsOf(definition);
    if (kindRefused !== null && account.is === kindRefused)
      return html(
        response,
        stopPage(definition, 'This kind of account cannot be used', `${account.email} is a ${account.is}; only a person\u2019s own account can consent here.`),
        403,
      );
    waiting.sub = account.sub;
    return html(response, consentPage(definition, waiting.client, id, { who: account.email, scopes: waiting.scopes }));
  });
  router.post('/decide', form, (request, response) => {
    const waiting = pending(request);
    if (!waiting?.sub) return html(response, stopPage(definition, 'Too late', 'This request was started too long ago.'), 400);
    requests.delete(text(request.body?.request));
    const back = (parameters: Record<string, string>) =>
      response.redirect(303, callbackUrl(definition, waiting.redirectUri, { ...parameters, state: waiting.state }));
    if (request.body?.decision !== 'agree') return back({ error: 'access_denied', error_description: 'The person refused.' });
    const ticked = [request.body?.scope ?? []].flat().map(String);
    const grant: GivenGrant = {
      id: opaque('g.'),
      clientId: waiting.client.id,
      sub: waiting.sub,
      scopes: waiting.scopes.filter((scope) => ticked.includes(scope)),
      withdrawn: false,
      refreshes: 0,
      givenAt: parts.now(),
    };
    store.state.grants[grant.id] = grant;
    store.touch();
    const code = opaque('c.');
    codes.set(code, {
      grantId: grant.id,
      clientId: grant.clientId,
      redirectUri: waiting.redirectUri,
      challenge: waiting.challenge,
      nonce: waiting.nonce,
      offline: waiting.offline && (definition.dialect.offline_parameter !== undefined || grant.scopes.includes('offline_access')),
      endsAt: parts.now() + CODE_LIFE_MS,
    });
    return back({ code });
  });

  router.post(pathOf(definition.server.token_endpoint) ?? '/token', parts.faults.guard('token'), ...formOrJson, async (request, response) => {
    const token = text(request.body?.refresh_token);
    const issued = store.state.refreshTokens[token];
    const before = { token, grantId: issued?.grantId ?? null, headers: request.headers, second: issued != null && issued.replacedAt !== null };
    const answer = await tokenAnswer(parts, waitingFor, request);
    if (token)
      parts.watch?.({
        ...before,
        renewed: answer.error === null,
        brings: text(answer.body.refresh_token) || null,
        closed: new Promise((resolve) => response.once('close', () => resolve(response.writableFinished))),
      });
    parts.count(`token.${text(request.body?.grant_type) || 'none'}.${answer.error ?? 'ok'}`);
    if (await parts.faults.beforeAnswer(response)) response.status(answer.status).set('cache-control', 'no-store').json(answer.body);
  });

  const revocation = pathOf(definition.dialect.revocation?.address ?? definition.server.revocation_endpoint);
  if (revocation)
    router.all(revocation, parts.faults.guard('token'), ...formOrJson, async (request, response) => {
      const answer = await revoke(parts, request);
      parts.count(`revoke.${answer.error ?? 'ok'}`);
      response.status(answer.status).json(answer.body);
    });

  router.get(pathOf(definition.server.userinfo_endpoint) ?? '/userinfo', parts.faults.guard('userinfo'), (request, response) => {
    const access = findAccess(parts, request);
    const grant = access ? store.state.grants[access.grantId] : undefined;
    const account = ACCOUNTS.find((one) => one.sub === grant?.sub);
    if (!grant || !account) return void response.status(401).set('www-authenticate', 'Bearer error="invalid_token"').json({ error: 'invalid_token' });
    if (!grant.scopes.includes('profile')) return void response.status(403).json({ error: 'insufficient_scope', scope: 'profile' });
    response.json({ sub: account.sub, name: account.name, email: account.email, organization: account.organization });
  });
  return router;
}

/** RFC 6749 §4.1.2, with `iss` (RFC 9207) where the definition claims it. */
function callbackUrl(definition: ProviderDefinition, redirectUri: string, parameters: Record<string, string>): string {
  const url = new URL(redirectUri);
  for (const [name, value] of Object.entries(parameters)) url.searchParams.set(name, value);
  if (definition.server.authorization_response_iss_parameter_supported) url.searchParams.set('iss', definition.server.issuer ?? '');
  return url.href;
}

/** The live access token of a request, as this API wants it sent (RFC 6750 §2.1), or null. */
export function findAccess(
  parts: Pick<ServerParts, 'store' | 'now' | 'realm'>,
  request: Request,
  sent: { token_header: string; token_word: string } = BEARER,
): FoundAccess | null {
  const header = request.headers[sent.token_header];
  const value = typeof header === 'string' ? header : '';
  const token = sent.token_word === '' ? value : value.startsWith(`${sent.token_word} `) ? value.slice(sent.token_word.length + 1) : '';
  const issued = parts.store.state.accessTokens[token];
  const grant = issued ? parts.store.state.grants[issued.grantId] : undefined;
  const client = grant ? parts.store.state.clients[grant.clientId] : undefined;
  return issued && grant && client?.realm === parts.realm && !grant.withdrawn && issued.expiresAt > parts.now()
    ? { grantId: issued.grantId, scopes: issued.scopes, byKey: issued.byKey === true, client, audience: issued.audience ?? null }
    : null;
}
export interface FoundAccess {
  grantId: string;
  scopes: string[];
  byKey: boolean;
  client: RegisteredClient;
  audience: string | null;
}
const BEARER = { token_header: 'authorization', token_word: 'Bearer' };
