import { existsSync } from 'node:fs';
import { join } from 'node:path';
import express, { type Express } from 'express';
import { Fault } from '../../core/fault.ts';
import { errorHandler } from '../problems.ts';
import { apiRouter } from './api-router.ts';
import type { AppParts } from './app-parts.ts';
import { consentRoutes } from './consent-routes.ts';
import { documentRoutes } from './document-routes.ts';
import { securityHeaders, watched } from './guards.ts';
import { healthRoutes } from './health-routes.ts';
import { oauthRoutes } from './oauth-routes.ts';
import { errorPage } from './pages.ts';
import { personRoutes } from './person-routes.ts';
import { signInRoutes } from './sign-in-routes.ts';

/** The HTTP surface, all but the token endpoint and the relay, which have lanes of their own: console, API, consent, health. */
export function app(parts: AppParts): Express {
  const { log, publicUrl } = parts;
  const server = express();
  server.set('trust proxy', parts.trustedProxies);
  server.set('query parser', 'simple');
  server.disable('x-powered-by');
  server.use(securityHeaders(publicUrl.startsWith('https:')), watched(log, parts.bodies));
  healthRoutes(server, parts);
  oauthRoutes(server, parts);
  consentRoutes(server, parts);
  server.use('/i', personRoutes(parts));
  documentRoutes(server, parts);
  server.get('/api/v1/events', parts.live.handle);
  signInRoutes(server, parts);
  // Another installation of the same origin: see docs/BACKUP.md.
  server.post('/fence', express.json({ limit: '10kb' }), async (request, response) => {
    const answer = await parts.fence.answer(request.body);
    if (answer === null) throw new Fault('NOT_FOUND');
    response.setHeader('cache-control', 'no-store');
    response.json(answer);
  });
  server.post('/fence/answers', express.json({ limit: '10kb' }), async (request, response) => {
    const page = await parts.fence.transfer(request.body);
    if (page === null) throw new Fault('NOT_FOUND');
    response.setHeader('cache-control', 'no-store');
    response.json(page);
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
