import { type RequestHandler, Router } from 'express';
import { findAccess, type ServerParts } from './authorization-server.ts';
import { ACCOUNTS, BERTHS, BOOKINGS, CALENDARS, TABLES } from './world.ts';

const PAGE_MOST = 50;
const BOOKINGS_A_PAGE = 200;

/** Checks a request like a real API (RFC 6750 §3): token, then scope. */
const guarded =
  (parts: ServerParts) =>
  (scope: string): RequestHandler[] => [
    parts.faults.guard('api'),
    (request, response, next) => {
      const access = findAccess(parts, request);
      parts.count(access ? 'api.ok' : 'api.unauthorized');
      response.setHeader('x-rate-limit', '600');
      if (!access)
        return void response
          .status(401)
          .set('www-authenticate', 'Bearer error="invalid_token"')
          .json({ error: 'invalid_token', message: 'The access token is missing, unknown or has run out.' });
      if (!access.scopes.includes(scope))
        return void response
          .status(403)
          .set('www-authenticate', `Bearer error="insufficient_scope", scope="${scope}"`)
          .json({ error: 'insufficient_scope', message: `This needs the scope ${scope}.` });
      response.locals.grantId = access.grantId;
      return next();
    },
  ];

/** Tables with cursor paging. */
function eelgrass(parts: ServerParts): Router {
  const needs = guarded(parts);
  const router = Router();
  router.get(
    '/v1/tables',
    ...needs('tables.read'),
    (_request, response) => void response.json({ tables: TABLES.map((table) => ({ id: table.id, title: table.title, rows: table.rows.length })) }),
  );
  router.get('/v1/tables/:table/rows', ...needs('tables.read'), (request, response) => {
    const table = TABLES.find((one) => one.id === request.params.table);
    if (!table) return void response.status(404).json({ error: 'not_found', message: 'No such table.' });
    const from = Number(request.query.cursor ?? 0) || 0;
    const limit = Math.min(Number(request.query.limit ?? PAGE_MOST) || PAGE_MOST, PAGE_MOST);
    const rows = table.rows.slice(from, from + limit);
    return void response.json({ rows, total: table.rows.length, next_cursor: from + rows.length < table.rows.length ? String(from + rows.length) : null });
  });
  router.get('/v1/calendars', ...needs('calendars.read'), (_request, response) => void response.json({ calendars: CALENDARS }));
  return router;
}

/** Berths and bookings of one region, with page numbers, 200 a page. */
function berthline(parts: ServerParts): Router {
  const needs = guarded(parts);
  const router = Router();
  const mine = <T extends { region: string }>(all: readonly T[]) => all.filter((one) => one.region === parts.realm);
  router.get('/v1/berths', ...needs('bookings.read'), (_request, response) => void response.json({ berths: mine(BERTHS) }));
  router.get('/v1/bookings', ...needs('bookings.read'), (request, response) => {
    const all = mine(BOOKINGS);
    const page = Math.max(1, Number(request.query.page ?? 1) || 1);
    response.json({
      page,
      pages: Math.ceil(all.length / BOOKINGS_A_PAGE),
      total: all.length,
      bookings: all.slice((page - 1) * BOOKINGS_A_PAGE, page * BOOKINGS_A_PAGE),
    });
  });
  router.get('/v1/me', ...needs('profile'), (_request, response) => {
    const account = ACCOUNTS.find((one) => one.sub === parts.store.state.grants[String(response.locals.grantId)]?.sub);
    response.json({ id: account?.sub, email: account?.email, region: parts.realm });
  });
  return router;
}

const APIS: Record<string, (parts: ServerParts) => Router> = { eelgrass, berthline };

/** The API of a provider that has data in the made-up world; another definition's stand-in has no API. */
export const apiServer = (parts: ServerParts): Router => APIS[parts.definition.name]?.(parts) ?? Router();
