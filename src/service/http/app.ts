import { randomUUID } from 'node:crypto';
import { existsSync } from 'node:fs';
import { join } from 'node:path';
import express, { type Express, type RequestHandler } from 'express';
import helmet from 'helmet';
import { openApiDocument } from '../../api/openapi.ts';
import { ASSERTION_ALGORITHMS } from '../../core/callers/assertion.ts';
import { Fault } from '../../core/fault.ts';
import { definitionSchema } from '../../core/provider/json-schema.ts';
import type { BodyDeadline } from '../body-deadline.ts';
import { CONSENT_COOKIE_SECONDS, type Consents, consentCookieName } from '../consent/index.ts';
import type { Fence } from '../fence/index.ts';
import { type IdentitySignIn, SIGN_IN_SECONDS } from '../identity/index.ts';
import type { Log } from '../ports.ts';
import { errorHandler, requestIdOf } from '../problems.ts';
import type { WhoCalls } from '../tokens/index.ts';
import { SIGN_IN_COOKIE_SECONDS, type SignInRequests, signInCookieName } from '../tool-sign-ins/index.ts';
import { type Admission, apiRouter } from './api-router.ts';
import { formerPaths } from './former-paths.ts';
import type { Handlers } from './handlers.ts';
import type { LiveEvents } from './live.ts';
import type { ServedMetrics } from './metrics.ts';
import { errorPage, offerPage, signedInPage } from './pages.ts';
import { personRoutes, type Visits } from './person-routes.ts';
import type { Sessions } from './sessions.ts';

const SIGN_IN_COOKIE = 'rk_sign_in';

export interface AppParts extends Pick<Admission, 'operators' | 'store'> {
  publicUrl: string;
  version: string;
  /** Whether callers may authenticate with a certificate (RFC 8705). */
  takesCertificates: boolean;
  trustedProxies: number;
  bodies: BodyDeadline;
  log: Log;
  handlers: Handlers;
  sessions: Sessions;
  live: LiveEvents;
  /** Results of jobs: the latest of one, and that of one run. */
  data: { latest: RequestHandler; run: RequestHandler; backup: RequestHandler };
  fence: Pick<Fence, 'answer'>;
  identity: Pick<IdentitySignIn, 'start' | 'finish' | 'signOut'>;
  consents: Consents;
  /** What is upcoming, for the private address of a calendar; null: there is none. */
  calendar: { text(token: string): Promise<string | null>; json(token: string): Promise<object | null> };
  /** What people see who have no login here. */
  visits: Visits;
  /** Claims about whoever consented, for the token of a tool; null: it is none. */
  userInfo(token: string): Promise<Record<string, string> | null>;
  signInRequests: SignInRequests;
  whoCalls: WhoCalls;
  /** A client's public keys (RFC 7517). */
  publicKeys(provider: string, client: string): Promise<{ keys: object[] }>;
  /** Null while all is well, else why not. */
  notReady(): string | null;
  /** Null: they are off. */
  metrics: ServedMetrics | null;
  consoleFolder: string;
}

/** The HTTP surface, all but the token endpoint, which has a lane of its own: console, API, consent, health. */
export function app(parts: AppParts): Express {
  const { log, publicUrl } = parts;
  const secure = publicUrl.startsWith('https:');
  const server = express();
  server.set('trust proxy', parts.trustedProxies);
  server.set('query parser', 'simple');
  server.disable('x-powered-by');
  server.use(
    helmet({
      contentSecurityPolicy: {
        useDefaults: false,
        directives: {
          defaultSrc: ["'none'"],
          scriptSrc: ["'self'"],
          styleSrc: ["'self'", "'unsafe-inline'"],
          fontSrc: ["'self'"],
          imgSrc: ["'self'", 'data:'],
          connectSrc: ["'self'"],
          formAction: ["'self'"],
          frameAncestors: ["'none'"],
          baseUri: ["'none'"],
        },
      },
      strictTransportSecurity: secure ? { maxAge: 31_536_000 } : false,
      referrerPolicy: { policy: 'no-referrer' },
      xFrameOptions: { action: 'deny' },
      crossOriginResourcePolicy: { policy: 'same-origin' },
    }),
  );
  server.use((request, response, next) => {
    const startedAt = performance.now();
    response.setHeader('x-request-id', randomUUID());
    response.on('finish', () => {
      // The route's pattern, never the address: that may hold a ticket, a code or a state.
      const route = (request.route as { path?: string } | undefined)?.path ?? (request.path.startsWith('/api/') ? '(no route)' : '(file)');
      log[response.statusCode >= 500 ? 'warn' : 'debug'](
        {
          event: 'http.request',
          requestId: requestIdOf(response),
          method: request.method,
          route,
          status: response.statusCode,
          ms: Math.round(performance.now() - startedAt),
        },
        'request',
      );
    });
    if (request.headers['content-length'] !== undefined || request.headers['transfer-encoding'] !== undefined)
      parts.bodies.watch(request, () => {
        if (response.headersSent) return void request.socket.destroy(); // a response that is over no longer knows its socket
        response.setHeader('connection', 'close'); // what was not read would be taken for the next request
        next(new Fault('BODY_TIMEOUT'));
      });
    next();
  });

  server.use(formerPaths(publicUrl));
  server.get('/healthz', (_request, response) => void response.json({ alive: true }));
  server.get('/readyz', (_request, response) => {
    const why = parts.notReady();
    response.status(why === null ? 200 : 503).json(why === null ? { ready: true } : { ready: false, why });
  });

  server.get('/metrics', async (request, response) => {
    const { metrics } = parts;
    if (metrics === null) throw new Fault('NOT_FOUND', { detail: 'Metrics are off.', remedy: 'Set RUSTY_KETTLE_METRICS_TOKEN and restart the service.' });
    if (!metrics.isAllowed(request.headers.authorization)) {
      response.setHeader('www-authenticate', 'Bearer realm="metrics"');
      throw new Fault('SIGN_IN_NEEDED', {
        detail: 'Metrics need their token.',
        remedy: 'Send the token of RUSTY_KETTLE_METRICS_TOKEN as Authorization: Bearer.',
      });
    }
    response.setHeader('cache-control', 'no-store');
    response.type(metrics.contentType).send(await metrics.text());
  });

  server.get('/.well-known/oauth-authorization-server', (_request, response) => {
    // RFC 8414
    response.json({
      issuer: publicUrl,
      token_endpoint: `${publicUrl}/oauth/token`,
      authorization_endpoint: `${publicUrl}/oauth/authorize`,
      revocation_endpoint: `${publicUrl}/oauth/revoke`,
      userinfo_endpoint: `${publicUrl}/oauth/userinfo`,
      grant_types_supported: ['client_credentials', 'authorization_code', 'refresh_token'],
      token_endpoint_auth_methods_supported: [
        ...['client_secret_basic', 'client_secret_post', 'private_key_jwt', 'none'],
        ...(parts.takesCertificates ? ['tls_client_auth', 'self_signed_tls_client_auth'] : []),
      ],
      token_endpoint_auth_signing_alg_values_supported: [...ASSERTION_ALGORITHMS],
      revocation_endpoint_auth_methods_supported: ['client_secret_basic', 'client_secret_post', 'none'],
      response_types_supported: ['code'],
      response_modes_supported: ['query'],
      code_challenge_methods_supported: ['S256'],
      authorization_response_iss_parameter_supported: true,
    });
  });

  // Sign-in for tools (RFC 6749 §4.1.1): a tool sends the browser here; whoever is asked answers in the console.
  server.get('/oauth/authorize', async (request, response) => {
    const { location, request: asked } = await parts.signInRequests.begin(new URL(request.originalUrl, publicUrl).searchParams, request.ip ?? '');
    if (asked) parts.sessions.giveConsentCookie(response, signInCookieName(asked.id), asked.cookie, SIGN_IN_COOKIE_SECONDS);
    response.setHeader('cache-control', 'no-store');
    response.redirect(303, location);
  });

  // Looked at by GET, used up by POST: whatever fetches links before people do (a mail scanner, a preview) spends nothing.
  server.get('/consent/start/:ticket', async (request, response) => {
    const page = offerPage(await parts.consents.invitation(request.params.ticket));
    response.setHeader('cache-control', 'no-store');
    // Without form-action: it would hold for where the provider sends the browser on, too. And the origin must come along with the POST.
    response.setHeader('content-security-policy', "default-src 'none'; style-src 'self'; base-uri 'none'; frame-ancestors 'none'");
    response.setHeader('referrer-policy', 'same-origin');
    response.type('html').send(page);
  });
  server.post('/consent/start/:ticket', async (request, response) => {
    parts.sessions.checkOrigin(request);
    const started = await parts.consents.start(request.params.ticket);
    parts.sessions.giveConsentCookie(response, consentCookieName(started.consentId), started.cookie, CONSENT_COOKIE_SECONDS);
    response.setHeader('cache-control', 'no-store');
    if (request.accepts(['html', 'json']) === 'json') response.json({ location: started.location });
    else response.redirect(303, started.location);
  });
  server.use('/i', personRoutes(parts));
  server.get('/oauth/callback/:provider/:client', async (request, response) => {
    const { consentId, invitation } = await parts.consents.callback(request.params.provider, request.params.client, request.query, (name) =>
      parts.sessions.cookie(request, name),
    );
    response.setHeader('cache-control', 'no-store');
    response.redirect(303, invitation === null ? `${publicUrl}/#/consents/${consentId}` : `${publicUrl}/i/p/${invitation}/wait`);
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
  let schema: string | null = null; // made when it is first requested
  server.get('/api/v1/provider-definition.schema.json', (_request, response) => {
    schema ??= JSON.stringify(definitionSchema());
    response.type('application/schema+json').send(schema);
  });
  let contract: string | null = null;
  server.get('/api/v1/openapi.json', (_request, response) => {
    contract ??= JSON.stringify(openApiDocument({ version: parts.version, publicUrl }));
    response.type('application/json').send(contract);
  });
  server.get('/api/v1/events', parts.live.handle);
  // For calendar programs, which cannot sign in: the address is the secret.
  server.get('/calendar/:token.ics', async (request, response) => {
    const text = await parts.calendar.text(request.params.token);
    if (text === null) throw new Fault('NOT_FOUND', { detail: 'This calendar was revoked, or never was.' });
    response.set('cache-control', 'private, max-age=300').type('text/calendar; charset=utf-8').send(text);
  });
  server.get('/calendar/:token.json', async (request, response) => {
    const listed = await parts.calendar.json(request.params.token);
    if (listed === null) throw new Fault('NOT_FOUND', { detail: 'This calendar was revoked, or never was.' });
    response.set('cache-control', 'private, max-age=300').json(listed);
  });
  server.get('/data/:job/latest.:format', parts.data.latest);
  server.get('/api/v1/runs/:run/result.:format', parts.data.run);
  server.get('/api/v1/backups/:backup/file', parts.data.backup);
  // Operators sign in at the company's own OpenID Connect provider.
  server.get('/sign-in/start', async (_request, response) => {
    const { location, cookie } = await parts.identity.start();
    parts.sessions.giveConsentCookie(response, SIGN_IN_COOKIE, cookie, SIGN_IN_SECONDS);
    response.setHeader('cache-control', 'no-store');
    response.redirect(303, location);
  });
  server.get('/sign-in/callback', async (request, response) => {
    const from = { address: request.ip ?? '', agent: request.get('user-agent') ?? null };
    const { token, operator, device } = await parts.identity.finish(request.query, parts.sessions.cookie(request, SIGN_IN_COOKIE), from);
    parts.sessions.give(response, { token, endsAt: operator.endsAt, device });
    parts.sessions.giveConsentCookie(response, SIGN_IN_COOKIE, '', 0);
    response.setHeader('cache-control', 'no-store');
    // A page of ours sends on: a redirect from another site would leave the Strict session cookie behind.
    response.type('html').send(signedInPage());
  });
  server.post('/sign-in/back-channel', express.urlencoded({ extended: false, limit: '100kb' }), async (request, response) => {
    response.setHeader('cache-control', 'no-store'); // Back-Channel Logout §2.8
    await parts.identity.signOut((request.body as Record<string, unknown>).logout_token).catch((error: unknown) => {
      if (!(error instanceof Fault) || error.status >= 500) throw error;
      response.status(400).json({ error: 'invalid_request', error_description: error.message });
    });
    if (!response.headersSent) response.status(200).end();
  });
  // Another installation of the same origin: see docs/BACKUP.md.
  server.post('/fence', express.json({ limit: '10kb' }), async (request, response) => {
    const answer = await parts.fence.answer(request.body);
    if (answer === null) throw new Fault('NOT_FOUND');
    response.setHeader('cache-control', 'no-store');
    response.json(answer);
  });
  server.use(apiRouter(parts.handlers, parts));
  if (existsSync(join(parts.consoleFolder, 'index.html'))) {
    server.use(
      express.static(parts.consoleFolder, {
        index: 'index.html',
        setHeaders: (response, path) =>
          void response.setHeader('cache-control', path.includes(`${join('/', 'assets', '/')}`) ? 'public, max-age=31536000, immutable' : 'no-cache'),
      }),
    );
  }
  server.use((_request, _response, next) => next(new Fault('NOT_FOUND', { detail: 'There is no page at this address.' })));
  server.use(errorHandler(log, errorPage));
  return server;
}
