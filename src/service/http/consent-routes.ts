import type { Express } from 'express';
import { CONSENT_COOKIE_SECONDS, consentCookieName } from '../consent/index.ts';
import type { AppParts } from './app-parts.ts';
import { offerPage } from './pages.ts';

/** From the link of a consent to the provider, and the way back. */
export function consentRoutes(server: Express, parts: Pick<AppParts, 'publicUrl' | 'consents' | 'sessions'>): void {
  const { publicUrl } = parts;
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
  server.get('/oauth/callback/:provider/:client', async (request, response) => {
    const { consentId, invitation } = await parts.consents.callback(request.params.provider, request.params.client, request.query, (name) =>
      parts.sessions.cookie(request, name),
    );
    response.setHeader('cache-control', 'no-store');
    response.redirect(303, invitation === null ? `${publicUrl}/#/consents/${consentId}` : `${publicUrl}/i/p/${invitation}/wait`);
  });
}
