import { createHash, randomBytes, timingSafeEqual } from 'node:crypto';
import express, { type Request, type Response, Router } from 'express';
import type { ProviderDefinition } from '../core/provider/definition.ts';
import type { Faults } from './faults.ts';
import { consentPage, registeredPage, registrationPage, signInPage, stopPage } from './pages.ts';
import type { GivenGrant, RegisteredClient, StandinStore } from './state.ts';
import { ACCOUNTS, STANDIN_PASSWORD } from './world.ts';

const CODE_LIFE_MS = 60_000;
const REQUEST_LIFE_MS = 600_000;

export interface Lives {
  accessSeconds: number;
  /** Where given: each token lives for a random time between both. */
  accessSecondsMost?: number;
}

/** One use of a refresh token that was looked at, for tests that judge whether it should have been sent. */
export interface RefreshUse {
  token: string;
  grantId: string | null;
  headers: Request['headers'];
  /** It had been replaced by an earlier use. */
  second: boolean;
  renewed: boolean;
  /** The refresh token that the answer brings, if any. */
  brings: string | null;
  /** When the connection closed: had the whole answer been handed to it? */
  closed: Promise<boolean>;
}

export interface ServerParts {
  definition: ProviderDefinition;
  /** The placeholders' values of this part of the provider, such as a region. */
  realm: string;
  store: StandinStore;
  faults: Faults;
  lives: Lives;
  now(): number;
  count(what: string): void;
  watch?: ((use: RefreshUse) => void) | undefined;
}

interface PendingRequest {
  client: RegisteredClient;
  redirectUri: string;
  scopes: string[];
  state: string;
  challenge: string | null;
  sub: string | null;
  offline: boolean;
  endsAt: number;
}
interface IssuedCode {
  grantId: string;
  clientId: string;
  redirectUri: string;
  challenge: string | null;
  offline: boolean;
  endsAt: number;
}

const text = (value: unknown): string => (typeof value === 'string' ? value : '');

/** A refresh token comes by the scope of OpenID Connect Core §11, or by a parameter of the provider's own. */
const asksOffline = (definition: ProviderDefinition, query: Record<string, unknown>): boolean => {
  const own = definition.dialect.offline_parameter;
  return own ? query[own.name] === own.value : text(query.scope).split(' ').includes('offline_access');
};

const opaque = (prefix: string): string => `${prefix}${randomBytes(24).toString('base64url')}`;
const form = express.urlencoded({ extended: false, limit: '64kb' });

/** A simulated authorization server, whose habits come from the definition: registration, consent, tokens, userinfo. */
export function authorizationServer(parts: ServerParts): Router {
  const { definition, store } = parts;
  const requests = new Map<string, PendingRequest>();
  const codes = new Map<string, IssuedCode>();
  const router = Router();
  const html = (response: Response, page: string, status = 200) => void response.status(status).type('html').send(page);

  const clientsHere = () => Object.values(store.state.clients).filter((client) => client.realm === parts.realm);
  router.get('/clients', (_request, response) => html(response, registrationPage(definition, clientsHere())));
  router.post('/clients', form, (request, response) => {
    const [name, redirectUri] = [text(request.body?.name).trim(), text(request.body?.redirect_uri).trim()];
    if (!name || !URL.canParse(redirectUri))
      return html(response, registrationPage(definition, clientsHere(), 'A name and a whole redirect URI are needed.'), 400);
    const client: RegisteredClient = {
      id: `${definition.name}-${randomBytes(6).toString('hex')}`,
      secret: opaque(`${definition.name.slice(0, 2)}s.`),
      name,
      redirectUris: [redirectUri],
      registeredAt: parts.now(),
      realm: parts.realm,
    };
    store.state.clients[client.id] = client;
    store.touch();
    return html(response, registeredPage(definition, client));
  });

  router.get('/authorize', (request, response) => {
    const query = request.query as Record<string, unknown>;
    const client = store.state.clients[text(query.client_id)];
    if (client?.realm !== parts.realm) return html(response, stopPage(definition, 'Unknown client', 'No client is registered under this client_id.'), 400);
    const redirectUri = text(query.redirect_uri);
    if (!client.redirectUris.includes(redirectUri))
      return html(
        response,
        stopPage(definition, 'Redirect URI mismatch', `The redirect_uri of this request is not the one registered for ${client.name}.`),
        400,
      );
    const back = (parameters: Record<string, string>) =>
      response.redirect(302, callbackUrl(definition, redirectUri, { ...parameters, state: text(query.state) }));
    if (query.response_type !== 'code') return back({ error: 'unsupported_response_type' });
    const scopes = text(query.scope).split(' ').filter(Boolean);
    const unknown = scopes.find((scope) => !definition.scopes.some((one) => one.name === scope));
    if (unknown !== undefined) return back({ error: 'invalid_scope', error_description: `The scope ${unknown} does not exist.` });
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
      sub: null,
      offline: asksOffline(definition, query),
      endsAt: parts.now() + REQUEST_LIFE_MS,
    });
    return html(response, signInPage(definition, client, id));
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
      return html(response, signInPage(definition, waiting.client, id, 'Account or password is wrong.'), 401);
    waiting.sub = account.sub;
    return html(response, consentPage(definition, waiting.client, id, account.email, waiting.scopes));
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
    };
    store.state.grants[grant.id] = grant;
    store.touch();
    const code = opaque('c.');
    codes.set(code, {
      grantId: grant.id,
      clientId: grant.clientId,
      redirectUri: waiting.redirectUri,
      challenge: waiting.challenge,
      offline: waiting.offline && (definition.dialect.offline_parameter !== undefined || grant.scopes.includes('offline_access')),
      endsAt: parts.now() + CODE_LIFE_MS,
    });
    return back({ code });
  });

  router.post('/token', parts.faults.guard('token'), form, async (request, response) => {
    const token = text(request.body?.refresh_token);
    const issued = store.state.refreshTokens[token];
    const before = { token, grantId: issued?.grantId ?? null, headers: request.headers, second: issued != null && issued.replacedAt !== null };
    const answer = tokenAnswer(parts, codes, request);
    if (token)
      parts.watch?.({
        ...before,
        renewed: answer.status === 200,
        brings: text(answer.body.refresh_token) || null,
        closed: new Promise((resolve) => response.once('close', () => resolve(response.writableFinished))),
      });
    parts.count(`token.${text(request.body?.grant_type) || 'none'}.${answer.status === 200 ? 'ok' : text(answer.body.error)}`);
    if (await parts.faults.beforeAnswer(response)) response.status(answer.status).set('cache-control', 'no-store').json(answer.body);
  });

  router.get('/userinfo', parts.faults.guard('userinfo'), (request, response) => {
    const access = findAccess(parts, request);
    const grant = access ? store.state.grants[access.grantId] : undefined;
    const account = ACCOUNTS.find((one) => one.sub === grant?.sub);
    if (!grant || !account) return void response.status(401).set('www-authenticate', 'Bearer error="invalid_token"').json({ error: 'invalid_token' });
    if (!grant.scopes.includes('profile')) return void response.status(403).json({ error: 'insufficient_scope', scope: 'profile' });
    response.json({ sub: account.sub, name: account.name, email: account.email });
  });
  return router;
}

/** RFC 6749 §4.1.2, with `iss` (RFC 9207) where the definition claims it. */
function callbackUrl(definition: ProviderDefinition, redirectUri: string, parameters: Record<string, string>): string {
  const url = new URL(redirectUri);
  for (const [name, value] of Object.entries(parameters)) url.searchParams.set(name, value);
  if (definition.server.authorization_response_iss_parameter_supported) url.searchParams.set('iss', definition.server.issuer);
  return url.href;
}

interface Answer {
  status: number;
  body: Record<string, unknown>;
}
const refusal = (status: number, error: string, description: string): Answer => ({ status, body: { error, error_description: description } });

function tokenAnswer(parts: ServerParts, codes: Map<string, IssuedCode>, request: Request): Answer {
  const client = authenticate(parts, request);
  if (!client) return refusal(401, 'invalid_client', 'Client authentication failed.');
  const body = request.body as Record<string, unknown>;
  if (body.grant_type === 'authorization_code') return exchangeCode(parts, codes, client, body);
  if (body.grant_type === 'refresh_token') return refresh(parts, client, text(body.refresh_token));
  return refusal(400, 'unsupported_grant_type', 'Only authorization_code and refresh_token.');
}

function authenticate(parts: ServerParts, request: Request): RegisteredClient | null {
  const basic = /^Basic (.+)$/i.exec(request.headers.authorization ?? '')?.[1];
  const [id, secret] = basic
    ? Buffer.from(basic, 'base64')
        .toString('utf8')
        .split(':')
        .map((part) => decodeURIComponent(part.replaceAll('+', ' ')))
    : [text(request.body?.client_id), text(request.body?.client_secret)];
  const client = parts.store.state.clients[id ?? ''];
  const [given, wanted] = [Buffer.from(secret ?? ''), Buffer.from(client?.secret ?? '')];
  return client?.realm === parts.realm && given.length === wanted.length && timingSafeEqual(given, wanted) ? client : null;
}

function exchangeCode(parts: ServerParts, codes: Map<string, IssuedCode>, client: RegisteredClient, body: Record<string, unknown>): Answer {
  const code = codes.get(text(body.code));
  codes.delete(text(body.code));
  if (!code || code.clientId !== client.id || code.endsAt <= parts.now()) return refusal(400, 'invalid_grant', 'The code is unknown, used up or too old.');
  if (code.redirectUri !== body.redirect_uri) return refusal(400, 'invalid_grant', 'The redirect_uri differs from that of the authorization request.');
  const verified = code.challenge === null || createHash('sha256').update(text(body.code_verifier)).digest('base64url') === code.challenge;
  if (!verified) return refusal(400, 'invalid_grant', 'The code_verifier does not fit.');
  const grant = parts.store.state.grants[code.grantId];
  return grant ? issue(parts, grant, code.offline) : refusal(400, 'invalid_grant', 'The grant is gone.');
}

/** RFC 6749 §6, with the dialect's rotation and what it does about a second use. */
function refresh(parts: ServerParts, client: RegisteredClient, token: string): Answer {
  const { dialect } = parts.definition;
  const issued = parts.store.state.refreshTokens[token];
  const grant = issued ? parts.store.state.grants[issued.grantId] : undefined;
  if (!issued || !grant || grant.clientId !== client.id) return refusal(400, 'invalid_grant', 'The refresh token is unknown.');
  if (grant.withdrawn) return refusal(400, 'invalid_grant', 'The grant was withdrawn.');
  if (issued.replacedAt !== null) {
    const inGrace = dialect.reuse === 'grace' && parts.now() <= issued.replacedAt + (dialect.reuse_grace_seconds ?? 0) * 1000;
    if (!inGrace) {
      if (dialect.reuse === 'kills_grant') grant.withdrawn = true;
      parts.count('reuse');
      parts.store.touch();
      return refusal(400, 'invalid_grant', 'The refresh token was used before.');
    }
    parts.count('reuse_in_grace');
  }
  grant.refreshes += 1;
  if (dialect.rotation === 'each_use') issued.replacedAt ??= parts.now();
  return issue(parts, grant, dialect.rotation === 'each_use');
}

function issue(parts: ServerParts, grant: GivenGrant, withRefresh: boolean): Answer {
  const access = opaque('a.');
  const { accessSeconds, accessSecondsMost = accessSeconds } = parts.lives;
  const seconds = accessSeconds + Math.floor(Math.random() * (accessSecondsMost - accessSeconds + 1));
  parts.store.state.accessTokens[access] = { grantId: grant.id, scopes: grant.scopes, expiresAt: parts.now() + seconds * 1000 };
  const body: Record<string, unknown> = { access_token: access, token_type: 'Bearer', expires_in: seconds, scope: grant.scopes.join(' ') };
  if (withRefresh) {
    const token = opaque('r.');
    parts.store.state.refreshTokens[token] = { grantId: grant.id, replacedAt: null };
    body.refresh_token = token;
  }
  parts.store.touch();
  return { status: 200, body };
}

/** The live access token of a request (RFC 6750 §2.1), or null. */
export function findAccess(parts: Pick<ServerParts, 'store' | 'now' | 'realm'>, request: Request): { grantId: string; scopes: string[] } | null {
  const token = /^Bearer (.+)$/.exec(request.headers.authorization ?? '')?.[1] ?? '';
  const issued = parts.store.state.accessTokens[token];
  const grant = issued ? parts.store.state.grants[issued.grantId] : undefined;
  const realm = grant ? parts.store.state.clients[grant.clientId]?.realm : undefined;
  return issued && grant && !grant.withdrawn && realm === parts.realm && issued.expiresAt > parts.now()
    ? { grantId: issued.grantId, scopes: issued.scopes }
    : null;
}
