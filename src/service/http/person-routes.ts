import { type NextFunction, type Request, type Response, Router, urlencoded } from 'express';
import { attempts } from '../../api/attempts.ts';
import { Fault } from '../../core/fault.ts';
import { CONSENT_COOKIE_SECONDS, consentCookieName } from '../consent/index.ts';
import { back, begin, enter, type Held, leave, look, ownLink, type PersonPage, type WithConsents } from '../people/index.ts';
import { disconnectPage, ownLinkPage, personErrorPage, personPage, waitPage } from './person-pages.ts';
import type { Sessions } from './sessions.ts';

/** What a person's browser can do, holding the ticket of one link. */
export interface Visits {
  enter(ticket: string): ReturnType<typeof enter>;
  look(invitation: string, held: Held): Promise<PersonPage>;
  begin(invitation: string, held: Held, way: 'device' | undefined): ReturnType<typeof begin>;
  back(invitation: string, held: Held): Promise<string | null>;
  leave(invitation: string, held: Held): Promise<void>;
  ownLink(invitation: string, held: Held): Promise<string>;
}
export const visitsWith = (s: WithConsents): Visits => ({
  enter: (ticket) => enter(s, ticket),
  look: (invitation, held) => look(s, invitation, held),
  begin: (invitation, held, way) => begin(s, invitation, held, way),
  back: (invitation, held) => back(s, invitation, held),
  leave: (invitation, held) => leave(s, invitation, held),
  ownLink: (invitation, held) => ownLink(s, invitation, held),
});

const COOKIE_SECONDS = 86_400;
/** How long a browser is kept waiting for an outcome. */
const MAX_WAIT_MS = 10_000;
const LOOK_EVERY_MS = 250;
const TICKET = /^[A-Za-z0-9_-]{32}$/;
const ID = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/;
const cookieName = (invitation: string): string => `rk_invitation_${invitation.replaceAll('-', '').slice(-12)}`;
/** No form-action: it would hold for where the provider sends the browser on, too. No script, and in nobody's frame. */
const POLICY = "default-src 'none'; style-src 'self'; base-uri 'none'; frame-ancestors 'none'";

/** `/i/…`: pages for people with a link and without a login. A link is looked at by GET, and used by POST alone. */
export function personRoutes(parts: { publicUrl: string; visits: Visits; sessions: Sessions }): Router {
  const { visits, sessions, publicUrl } = parts;
  const router = Router();
  router.use((_request, response, next) => {
    response.setHeader('cache-control', 'no-store');
    response.setHeader('content-security-policy', POLICY);
    response.setHeader('referrer-policy', 'same-origin'); // the origin must come along with a POST, and nothing else anywhere
    next();
  });
  const at = (request: Request) => {
    const { invitation } = request.params as { invitation: string };
    if (!ID.test(invitation)) throw new Fault('INVITATION_UNKNOWN');
    return {
      invitation,
      base: `/i/p/${invitation}`,
      held: { ticket: sessions.cookie(request, cookieName(invitation)), cookie: (name: string) => sessions.cookie(request, name) },
    };
  };
  const html = (response: Response, text: string): void => void response.type('html').send(text);

  router.get('/p/:invitation', async (request, response) => {
    const { invitation, base, held } = at(request);
    const page = await visits.look(invitation, held);
    if (page.result?.kind === 'waiting' && page.device) return response.redirect(303, `${base}/wait`);
    html(response, personPage(page, base));
  });
  router.get('/p/:invitation/wait', async (request, response) => {
    const { invitation, base, held } = at(request);
    const waits = (seen: PersonPage): boolean => seen.result?.kind === 'waiting';
    let page = await visits.look(invitation, held);
    if (waits(page) && (page.device === null || request.query.entered !== undefined))
      for await (const _ of attempts({ withinMs: MAX_WAIT_MS, everyMs: LOOK_EVERY_MS })) {
        page = await visits.look(invitation, held);
        if (!waits(page) || request.destroyed) break;
      }
    if (waits(page)) return html(response, waitPage(page, base));
    // All is as the application wants it: straight back there. Anything else is shown first.
    const isDone = page.result?.kind === 'connected' && page.returnHost !== null;
    response.redirect(303, isDone ? `${base}/back` : base);
  });
  router.post('/p/:invitation/start', urlencoded({ extended: false, limit: '1kb' }), async (request, response) => {
    sessions.checkOrigin(request);
    const { invitation, base, held } = at(request);
    const { way } = (request.body ?? {}) as { way?: unknown };
    const started = await visits.begin(invitation, held, way === 'device' ? way : undefined);
    if (started.location === null) return response.redirect(303, `${base}/wait`);
    sessions.giveConsentCookie(response, consentCookieName(started.consentId), started.cookie, CONSENT_COOKIE_SECONDS);
    response.redirect(303, started.location);
  });
  router.get('/p/:invitation/back', async (request, response) => {
    const { invitation, base, held } = at(request);
    response.redirect(303, (await visits.back(invitation, held)) ?? base);
  });
  router.get('/p/:invitation/disconnect', async (request, response) => {
    const { invitation, base, held } = at(request);
    const page = await visits.look(invitation, held);
    if (!page.connected) return response.redirect(303, base);
    html(response, disconnectPage(page, base));
  });
  router.post('/p/:invitation/disconnect', async (request, response) => {
    sessions.checkOrigin(request);
    const { invitation, base, held } = at(request);
    await visits.leave(invitation, held);
    response.redirect(303, base);
  });
  router.post('/p/:invitation/link', async (request, response) => {
    sessions.checkOrigin(request);
    const { invitation, base, held } = at(request);
    html(response, ownLinkPage(base, await visits.ownLink(invitation, held)));
  });
  // The ticket leaves the address at the first look: it goes into a cookie of this browser, for this link alone.
  router.get('/:ticket', async (request, response) => {
    const { ticket } = request.params;
    if (!TICKET.test(ticket)) throw new Fault('INVITATION_UNKNOWN');
    const { invitation } = await visits.enter(ticket);
    sessions.giveConsentCookie(response, cookieName(invitation), ticket, COOKIE_SECONDS);
    response.redirect(303, `${publicUrl}/i/p/${invitation}`);
  });
  router.use((error: unknown, _request: Request, response: Response, next: NextFunction) => {
    if (!(error instanceof Fault) || error.status >= 500) return next(error);
    response.status(error.status);
    html(response, personErrorPage(error));
  });
  return router;
}
