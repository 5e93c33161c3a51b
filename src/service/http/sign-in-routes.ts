import express, { type Express } from 'express';
import { Fault } from '../../core/fault.ts';
import { SIGN_IN_SECONDS } from '../identity/index.ts';
import type { AppParts } from './app-parts.ts';
import { signedInPage } from './pages.ts';

const SIGN_IN_COOKIE = 'rk_sign_in';

/** Operators sign in at the company's own OpenID Connect provider. */
export function signInRoutes(server: Express, parts: Pick<AppParts, 'identity' | 'sessions'>): void {
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
    await parts.identity.signOut((request.body as Record<string, unknown> | undefined)?.logout_token).catch((error: unknown) => {
      if (!(error instanceof Fault) || error.status >= 500) throw error;
      response.status(400).json({ error: 'invalid_request', error_description: error.message });
    });
    if (!response.headersSent) response.status(200).end();
  });
}
